import * as membership from '../membership/index.js';
import { Face } from './faces.js';

/** What a directory does: a program with the right to `directory.write`. It sees what it brought, and nothing else of the tenant. Each call throws `refused` without that right. */
export class DirectoryFace extends Face {
  get #directory(): membership.Directory {
    // guard directory-write-needed
    this.standing.insist('directory.write');
    return { tenantId: this.tenantId, program: this.actorId };
  }

  async users(by?: Parameters<typeof membership.directoryUsers>[2]): Promise<membership.KeptUser[]> {
    return membership.directoryUsers(this.setting.db, this.#directory, by);
  }

  async groups(by?: Parameters<typeof membership.directoryGroups>[2]): Promise<membership.KeptGroup[]> {
    return membership.directoryGroups(this.setting.db, this.#directory, by);
  }

  /** Who is in which of its groups, by it. */
  async members(by: Parameters<typeof membership.directoryMembers>[2]): ReturnType<typeof membership.directoryMembers> {
    return membership.directoryMembers(this.setting.db, this.#directory, by);
  }

  /** @throws LintelError `directory-taken`, `removed-here`. */
  async bringUser(user: membership.DirectoryUser): Promise<membership.KeptUser> {
    return membership.bringUser(this.setting, this.#directory, user);
  }

  /** @throws LintelError `not-found`, `changed-meanwhile`, `directory-taken`, `last-keyholder`. */
  async changeUser(id: string, next: Parameters<typeof membership.changeUser>[3], version?: number): Promise<membership.KeptUser> {
    return membership.changeUser(this.setting, this.#directory, id, next, version);
  }

  /** @throws LintelError `not-found`, `changed-meanwhile`, `last-keyholder`. */
  async dropUser(id: string, version?: number): Promise<void> {
    return membership.dropUser(this.setting, this.#directory, id, version);
  }

  /** @throws LintelError `bad-name`, `no-such-member`, `apart`. */
  async bringGroup(group: membership.DirectoryGroup): Promise<membership.KeptGroup> {
    return membership.bringGroup(this.setting, this.#directory, group);
  }

  /** @throws LintelError `not-found`, `changed-meanwhile`, `bad-name`, `no-such-member`, `apart`. */
  async changeGroup(id: string, next: Parameters<typeof membership.changeGroup>[3], version?: number): Promise<membership.KeptGroup> {
    return membership.changeGroup(this.setting, this.#directory, id, next, version);
  }

  /** @throws LintelError `not-found`, `changed-meanwhile`, `in-rules`. */
  async dropGroup(id: string, version?: number): Promise<void> {
    return membership.dropGroup(this.setting, this.#directory, id, version);
  }

  /** Remembers what it says and nobody here knows, for whoever looks. */
  async noteUnknown(what: readonly string[]): Promise<void> {
    return membership.noteUnknown(this.setting, this.#directory, what);
  }
}
