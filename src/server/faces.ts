import { LintelError } from '../base/index.js';
import * as membership from '../membership/index.js';
import type { Anchor, Assignment, Standing } from '../standing/index.js';

/** Who acts: a standing that can be asked for the member behind it. */
export type Acting = Standing<any> & { readonly memberId: string };

/** Faces act as one person in one tenant; each change reads that person's standing afresh. */
export abstract class Face<A extends Acting = Acting> {
  protected readonly standing: A;
  protected readonly setting: membership.Setting;

  constructor(standing: A, setting: membership.Setting) {
    this.standing = standing;
    this.setting = { ...setting, fulfilled: standing.facts.fulfilled };
  }

  protected personId(id: membership.Id): string {
    return membership.spelled(this.standing.charter, 'person', id);
  }

  protected get tenantId(): string {
    return this.standing.facts.tenant.id;
  }

  /** @throws LintelError `not-found` for somebody who is not signed in or no member here. */
  protected get actorId(): string {
    return this.standing.memberId;
  }

  protected async carryOut(step: membership.Step, reason?: string): Promise<membership.Done> {
    const [done] = await membership.carryOut(this.setting, this.tenantId, this.actorId, [step], { reason });
    return done as membership.Done;
  }
}

export class MembersFace extends Face {
  /** Members by name, or who came last first; all of them, those who are searched, or a part from behind the one that is named. */
  async list(asked?: membership.MembersAsked): Promise<membership.Member[]> {
    return membership.listMembers(this.setting, this.standing, asked);
  }

  /** What a member holds, with every way by which it comes. @throws LintelError `refused`, `not-found`. */
  async held(user: membership.Id): Promise<{ readonly userId: string; readonly name: string } & ReturnType<Standing['describe']>> {
    const userId = this.personId(user);
    await membership.insistOnKnown(this.setting, this.standing, userId);
    const found = (await membership.standingsOf(this.setting, this.tenantId, [userId])).get(userId);
    if (!found) throw new LintelError('not-found', 'There is no such member.', {});
    return { userId, name: found.facts.me.name ?? userId, ...found.describe() };
  }

  /** True for a member of whom this person may know, or about whom they may ask. @throws LintelError `refused` for somebody who may of nobody. */
  async knowsOf(userId: membership.Id, permission: 'member.read' | 'access.ask' = 'member.read'): Promise<boolean> {
    return membership.knowsOf(this.setting, this.standing, this.personId(userId), permission);
  }

  /** Roles that this person may give, for the whole tenant or at an anchor: the charter's and the tenant's own. */
  async rolesToGive(anchor: Anchor = { on: 'tenant' }): Promise<membership.RoleToGive[]> {
    return membership.rolesToGive(this.setting, this.standing, anchor);
  }

  /** Replaces a member's roles in one step. */
  async setRoles(userId: string, roles: readonly Assignment[], reason?: string): Promise<void> {
    await this.carryOut({ do: 'set-roles', holder: { user: userId }, roles }, reason);
  }

  /**
   * Brings people to hold at least this: members get what they do not have, others are invited with it; nothing is taken away. In parts of 100, each a transaction.
   *
   * @throws LintelError `refused` for somebody who may not invite at all; what is refused for one person is in the report.
   */
  bring(people: readonly membership.NewInvitation[], options?: membership.BringOptions): Promise<membership.BringReport> {
    return membership.bring(this.setting, this.tenantId, this.actorId, people, options);
  }

  async place(userId: string, unitIds: readonly string[]): Promise<void> {
    await this.carryOut({ do: 'place', user: userId, units: unitIds });
  }

  async remove(userId: string, reason?: string): Promise<void> {
    await this.carryOut({ do: 'remove', user: userId }, reason);
  }

  async leave(): Promise<void> {
    await this.carryOut({ do: 'leave' });
  }
}

export class InvitationsFace extends Face {
  /** The newest first, at most 500; or a part from behind the one that is named. */
  async list(part?: membership.Part<Pick<membership.Invitation, 'invitedAt' | 'id'>>): Promise<membership.Invitation[]> {
    return membership.listInvitations(this.setting, this.standing, part);
  }

  /**
   * Invites each address; the answers come in the same order.
   *
   * @param options `once`: a key of the caller's choice. The same again under it does nothing and is answered alike, without secrets.
   */
  async send(invitations: readonly membership.NewInvitation[], { once }: { readonly once?: string } = {}): Promise<readonly membership.InviteAnswer[]> {
    if (once === undefined) return membership.invite(this.setting, this.standing, invitations);
    const who = { tenantId: this.tenantId, actor: this.actorId, key: once };
    const work = (tx: membership.Setting['db']) => membership.invite({ ...this.setting, db: tx }, this.standing, invitations);
    return membership.once(this.setting, who, invitations, work, ({ token: _, ...answer }) => answer);
  }

  async sendAgain(id: string): Promise<{ readonly token?: string }> {
    const { secret } = await this.carryOut({ do: 'send-again', invitation: id });
    return secret === undefined ? {} : { token: secret };
  }

  async withdraw(id: string): Promise<void> {
    await this.carryOut({ do: 'withdraw', invitation: id });
  }
}

export class TenantFace extends Face {
  async rename(input: { readonly name?: string; readonly contact?: string }): Promise<void> {
    await this.carryOut({ do: 'rename-tenant', ...input });
  }

  /** Roles of the charter and of the tenant's own, each with whoever holds it, by every way. */
  async roles(): Promise<membership.RoleView[]> {
    return membership.listRoles(this.setting, this.standing);
  }

  async groups(): Promise<membership.GroupView[]> {
    return membership.listGroups(this.setting, this.standing);
  }

  /** The units, each after the one above it. */
  async units(): Promise<membership.UnitView[]> {
    return membership.listUnits(this.setting, this.standing);
  }

  /** Permissions that were given alone, beside roles, each with its holder. The step `set-permissions` sets all of one holder's. @throws LintelError `refused`. */
  givenAlone(): Promise<membership.GivenAlone[]> {
    return membership.listGivenAlone(this.setting, this.standing);
  }

  /** What people of a group own that is open to others. The steps `open-records` and `close-records` change it. @throws LintelError `refused`. */
  openings(): Promise<membership.OpeningView[]> {
    return membership.listOpenings(this.setting, this.standing);
  }

  /** Who stands in for whom, or will: this person's own, and others' of whom they may know. The steps `name-deputy` and `end-deputy` change it. */
  deputies(): Promise<membership.DeputyView[]> {
    return membership.listDeputies(this.setting, this.standing);
  }

  /** Who may come in without an invitation, whether everybody has one role, what was chosen as a base, and what is asked of every member's sign-in. The step `set-rules` sets them. */
  rules(): ReturnType<typeof membership.readRules> {
    return membership.readRules(this.setting, this.standing);
  }

  /** What the sources are called that stand with roles, groups and places: providers by which people come. @throws LintelError `refused`. */
  sources(): ReturnType<typeof membership.listSources> {
    return membership.listSources(this.setting, this.standing);
  }

  /** What directories have brought, and what of it nobody here knows. @throws LintelError `refused`. */
  directories(): Promise<membership.DirectoryReport[]> {
    return membership.listDirectories(this.setting, this.standing);
  }

  /** Who asks to be let in. The steps `let-in` and `turn-away` answer them. @throws LintelError `refused`. */
  async requests(): Promise<membership.JoinRequest[]> {
    return membership.listRequests(this.setting, this.standing);
  }

  async addUnit(input: { readonly id?: string; readonly name: string; readonly below?: string }): Promise<string> {
    return (await this.carryOut({ do: 'add-unit', ...input })).id as string;
  }
}

export class ProgramsFace extends Face {
  async list(): Promise<membership.Program[]> {
    return membership.listPrograms(this.setting, this.standing);
  }

  /** Makes a key for a program. The secret is answered here and never again. */
  async makeKey(programId: string, input: { readonly label?: string; readonly ends?: string } = {}): Promise<{ readonly id: string; readonly key: string }> {
    const { id, secret } = await this.carryOut({ do: 'make-key', program: programId, ...input });
    return { id: id as string, key: secret as string };
  }
}

/** The record of changes, for whoever may read it. */
export class AuditFace extends Face {
  /** Events, the newest first, or those that are asked for; of a part of the record for somebody who may know of some people only. */
  async list({
    by,
    about,
    ...asked
  }: Omit<membership.EventsAsked, 'by' | 'about'> & { readonly by?: membership.Id; readonly about?: membership.Id } = {}): Promise<membership.AuditEvent[]> {
    const people = { ...(by !== undefined && { by: this.personId(by) }), ...(about !== undefined && { about: this.personId(about) }) };
    return membership.listAudit(this.setting, this.standing, { ...asked, ...people });
  }

  /** Goes through the whole chain. @param head the hash that was the last at an earlier look: a tail that was cut off shows by it. */
  async verify(head?: string): Promise<membership.AuditVerdict> {
    membership.insistOnAll(this.standing, 'audit.read');
    return membership.verifyAudit(this.setting.db, this.tenantId, head);
  }

  /** All events in their order, one at a time: a long record is never held whole. */
  async *all(): AsyncGenerator<membership.AuditEvent> {
    membership.insistOnAll(this.standing, 'audit.read');
    yield* membership.exportAudit(this.setting.db, this.tenantId);
  }

  /**
   * What a member held at a moment that is over, under the charter of that day, worked out from the record alone.
   *
   * @throws LintelError `refused`, `no-charter-then`.
   */
  async heldThen(userId: membership.Id, at: Date): Promise<membership.HeldThen> {
    membership.insistOnAll(this.standing, 'audit.read');
    return membership.heldThen(this.setting.db, this.setting.charter, this.tenantId, this.personId(userId), at);
  }
}
