import * as membership from '../membership/index.js';

/** What the staff of the platform does with tenants and people. Each call asks afresh whether they may, and is on the platform's record of changes. */
export class PlatformFace {
  readonly #setting: membership.Setting;
  readonly #user: string;

  constructor(setting: membership.Setting, user: string) {
    this.#setting = setting;
    this.#user = user;
  }

  #tenants<R>(what: string, event: Record<string, unknown>, words: Record<string, string>, work: (inside: membership.Setting) => Promise<R>): Promise<R> {
    return membership.onPlatform(this.#setting, this.#user, 'platform.tenants', async (_, inside) => ({
      result: await work(inside),
      done: { what, event, words },
    }));
  }

  /** Opens a tenant for somebody. @throws LintelError `refused`, `bad-name`, `tenant-exists`. */
  async openTenant(tenant: membership.NewTenant & { readonly id: string }): Promise<string> {
    return this.#tenants('tenant opened', { tenant: tenant.id, keyholder: tenant.keyholder }, {}, (inside) => membership.openTenant(inside, tenant));
  }

  /** Closes a tenant: nobody has a standing in it from the next request on, and nothing is lost. @throws LintelError `refused`, `not-found`. */
  async closeTenant(tenant: string, reason: string): Promise<void> {
    await this.#tenants('tenant closed', { tenant }, { reason }, (inside) => membership.closeTenant(inside, tenant, this.#user, reason));
  }

  /** @throws LintelError `refused`, `not-found`. */
  async reopenTenant(tenant: string, reason: string): Promise<void> {
    await this.#tenants('tenant opened again', { tenant }, { reason }, (inside) => membership.reopenTenant(inside, tenant, this.#user, reason));
  }

  /** @throws LintelError `refused`, `not-found`, `bad-plan`. */
  async setPlan(tenant: string, plan: membership.Plan): Promise<membership.PlanEffect> {
    return this.#tenants('plan set', { tenant, plan }, {}, (inside) => membership.setPlan(inside, tenant, plan));
  }

  /** Begins to look after a tenant: come in with `enter({ user, tenant, care: id })`. @throws LintelError `refused`, `bad-care`, `bad-reason`, `not-found`. */
  beginCare(care: membership.NewCare): Promise<{ readonly id: string; readonly until: Date }> {
    return membership.beginCare(this.#setting, this.#user, care);
  }

  /** @throws LintelError `refused`, `not-found`. */
  endCare(tenant: string, id: string): Promise<void> {
    return membership.endCare(this.#setting, this.#user, tenant, id);
  }

  /** Erases a person everywhere; see `erasePerson`. @throws LintelError `refused`, `no-account`, `last-keyholder`. */
  async erasePerson(user: string): Promise<{ readonly words: number }> {
    return membership.onPlatform(this.#setting, this.#user, 'platform.people', async (_, inside) => ({
      result: await membership.erasePerson(inside, user),
      done: { what: 'person erased', event: { user } },
    }));
  }
}
