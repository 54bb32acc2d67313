import * as membership from '../membership/index.js';
import { type Acting, Face } from './faces.js';

/** What would become of somebody who comes, and who would gain and lose what by it, with records counted. */
export interface TriedArrival {
  readonly arrived: membership.Arrived;
  readonly proposal: membership.Proposal;
}

/** The providers by which people come in, for whoever has full control. What changes them are steps: `make-connection`, `edit-connection`, `turn-connection`, `drop-connection`. */
export class ConnectionsFace extends Face {
  readonly #counted: (proposed: membership.Proposed) => Promise<membership.Proposal>;

  constructor(standing: Acting, setting: membership.Setting, counted: (proposed: membership.Proposed) => Promise<membership.Proposal>) {
    super(standing, setting);
    this.#counted = counted;
  }

  /** By name; their secrets are in no answer. @throws LintelError `refused` without full control. */
  list(): Promise<membership.Connection[]> {
    return membership.listConnections(this.setting, this.standing);
  }

  /** Who was not let in lately, or is in and was not given what came, and why; the latest first, at most 500. @throws LintelError `refused` for somebody who may not invite. */
  refused(): Promise<membership.RefusedArrival[]> {
    return membership.listRefused(this.setting, this.standing);
  }

  /**
   * What would happen if somebody came with these claims: which rules spoke, what comes, what goes, on how many records. Nothing is written but that it was tried: from then on it can be turned on as
   * it is, or be changed into what was tried.
   *
   * @throws LintelError `refused` without full control, `prove-first`, `not-found`, `bad-rule`; `no-subject`, `claims-too-large`.
   */
  async try(trial: membership.Trial): Promise<TriedArrival> {
    const { arrived, ...proposed } = await membership.tryArrival(this.setting, this.tenantId, this.actorId, trial);
    return { arrived, proposal: await this.#counted(proposed) };
  }

  /** Keeps a client's secret that is sealed already: `SignOn` of `warm-lintel/provisioning` does. @throws LintelError `refused`, `prove-first`, `not-found`. */
  keepSealed(id: string, sealed: string): Promise<void> {
    return membership.keepSealed(this.setting, this.tenantId, this.actorId, id, sealed);
  }

  /** Mail domains that the tenant says are theirs, with what shows it. @throws LintelError `refused` without full control. */
  domains(): Promise<membership.Domain[]> {
    return membership.listDomains(this.setting, this.standing);
  }

  /** The record of a domain was seen: `Domains` of `warm-lintel/provisioning` looks. @throws LintelError `refused`, `prove-first`, `not-found`, `domain-held`. */
  proveDomain(domain: string, first: Parameters<typeof membership.proveDomain>[4]): Promise<void> {
    return membership.proveDomain(this.setting, this.tenantId, this.actorId, domain, first);
  }
}
