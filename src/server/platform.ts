import { LintelError } from '../base/index.js';
import { askForLink } from '../mail/index.js';
import * as membership from '../membership/index.js';

/** What the staff of the platform does with tenants and people. Each call asks afresh whether they may, and is on the platform's record of changes. */
export class PlatformFace {
  readonly #setting: membership.Setting;
  readonly #user: string;

  constructor(setting: membership.Setting, user: string) {
    this.#setting = setting;
    this.#user = user;
  }

  #tenant(id: membership.Id): string {
    return membership.spelled(this.#setting.charter, 'tenant', id);
  }

  #person(id: membership.Id): string {
    return membership.spelled(this.#setting.charter, 'person', id);
  }

  #tenants<R>(
    what: string,
    event: { readonly tenant: string; readonly [of: string]: unknown },
    words: Record<string, string>,
    work: (inside: membership.Setting) => Promise<R>,
  ): Promise<R> {
    return membership.onPlatform(this.#setting, this.#user, 'platform.tenants', [event.tenant], async (_, inside) => ({
      result: await work(inside),
      done: { what, event, words },
    }));
  }

  /** Opens a tenant for somebody. @throws LintelError `refused`, `bad-name`, `tenant-exists`. */
  async openTenant(tenant: membership.NewTenant & { readonly id: membership.Id }): Promise<string> {
    const event = { tenant: this.#tenant(tenant.id), keyholder: this.#person(tenant.keyholder) };
    return this.#tenants('tenant opened', event, {}, (inside) => membership.openTenant(inside, tenant));
  }

  /** Closes a tenant: nobody has a standing in it from the next request on, and nothing is lost. @throws LintelError `refused`, `not-found`. */
  async closeTenant(id: membership.Id, reason: string): Promise<void> {
    const tenant = this.#tenant(id);
    await this.#tenants('tenant closed', { tenant }, { reason }, (inside) => membership.closeTenant(inside, tenant, this.#user, reason));
  }

  /** @throws LintelError `refused`, `not-found`. */
  async reopenTenant(id: membership.Id, reason: string): Promise<void> {
    const tenant = this.#tenant(id);
    await this.#tenants('tenant opened again', { tenant }, { reason }, (inside) => membership.reopenTenant(inside, tenant, this.#user, reason));
  }

  /** @throws LintelError `refused`, `not-found`, `bad-plan`. */
  async setPlan(id: membership.Id, plan: membership.Plan): Promise<membership.PlanEffect> {
    const tenant = this.#tenant(id);
    return this.#tenants('plan set', { tenant, plan }, {}, (inside) => membership.setPlan(inside, tenant, plan));
  }

  /** Says whose a mail domain is, where the DNS does not show it or two show it: whoever had it has it no more. The tenant has claimed it. @throws LintelError `refused`, `not-found`, `bad-reason`. */
  async giveDomain(id: membership.Id, domain: string, reason: string): Promise<void> {
    if (reason.trim() === '') throw new LintelError('bad-reason', 'to say whose a domain is takes a reason, for the record', {});
    const tenant = this.#tenant(id);
    const held = await membership.holderOf(this.#setting.db, domain);
    const tenants = [tenant, ...(held ? [held.tenantId] : [])];
    await membership.onPlatform(this.#setting, this.#user, 'platform.tenants', tenants, async (_, inside) => {
      await membership.giveDomain(inside, tenant, domain);
      return { result: undefined, done: { what: 'domain given', event: { tenant, domain }, words: { reason } } };
    });
  }

  /** Begins to look after a tenant: come in with `enter({ user, tenant, care: id })`. @throws LintelError `refused`, `bad-care`, `bad-reason`, `not-found`. */
  beginCare(care: membership.NewCare): Promise<{ readonly id: string; readonly until: Date }> {
    return membership.beginCare(this.#setting, this.#user, { ...care, tenant: this.#tenant(care.tenant) });
  }

  /** @throws LintelError `refused`, `not-found`. */
  endCare(tenant: membership.Id, id: string): Promise<void> {
    return membership.endCare(this.#setting, this.#user, this.#tenant(tenant), id);
  }

  /** Deactivates an account everywhere; see `setDeactivated`. @throws LintelError `refused`, `no-account`, `bad-reason`; `last-keyholder`: then nothing was done. */
  deactivate(id: membership.Id, reason: string): Promise<void> {
    return this.#setDeactivated(this.#person(id), true, reason);
  }

  /** Brings a deactivated account back, as it was. @throws LintelError `refused`, `no-account`, `bad-reason`. */
  reactivate(id: membership.Id, reason: string): Promise<void> {
    return this.#setDeactivated(this.#person(id), false, reason);
  }

  /**
   * Removes the second factors of somebody who has lost them, a day after they were told by mail: until then they keep them by the link in that letter. Where they were told and did
   * not, the next sign-in with the password takes them away.
   *
   * @throws LintelError `refused`, `no-account`, `bad-reason`, `no-mailer`, `own-power` for one's own; `address-not-confirmed` for somebody who cannot be told.
   */
  async resetFactors(id: membership.Id, reason: string): Promise<void> {
    const user = this.#person(id);
    const { hasMailer, now } = this.#setting;
    // guard staff-not-own-factor by accounts: Staff could remove their own second factor.
    if (user === this.#user) throw new LintelError('own-power', 'Nobody removes their own second factor so; ask another of the staff.', {});
    await this.#people('factors asked to be removed', user, reason, [], async (tx) => {
      if (!hasMailer) throw new LintelError('no-mailer', 'No mail is set up, so that nobody can be told; give createLintel a mailer.', {});
      const person = await tx.selectFrom('lintel_person').select(['address', 'address_written', 'confirmed_at']).where('id', '=', user).executeTakeFirst();
      if (!person) throw new LintelError('no-account', 'There is no such account.', {});
      if (person.confirmed_at === null) throw new LintelError('address-not-confirmed', 'They have proven no address, so that they cannot be told.', {});
      await askForLink(tx, 'keep-factors', { normal: person.address, written: person.address_written }, new Date(now()));
    });
  }

  async #setDeactivated(user: string, isDeactivated: boolean, reason: string): Promise<void> {
    const tenants = (tx: membership.Setting['db']) => membership.tenantsOfPerson(tx, user);
    await this.#people(isDeactivated ? 'person deactivated' : 'person reactivated', user, reason, tenants, (_, inside) =>
      membership.setDeactivated(inside, user, isDeactivated),
    );
  }

  /** Something that is done with somebody's account, for a reason. */
  async #people(
    what: string,
    user: string,
    reason: string,
    tenants: Parameters<typeof membership.onPlatform>[3],
    work: (tx: membership.Setting['db'], inside: membership.Setting) => Promise<void>,
  ): Promise<void> {
    if (reason.trim() === '') throw new LintelError('bad-reason', 'say why: it goes on record', {});
    await membership.onPlatform(this.#setting, this.#user, 'platform.people', tenants, async ({ tx }, inside) => ({
      result: await work(tx, inside),
      done: { what, event: { user }, words: { reason } },
    }));
  }

  /** Erases a person everywhere; see `erasePerson`. @throws LintelError `refused`, `no-account`, `last-keyholder`. */
  async erasePerson(id: membership.Id): Promise<{ readonly words: number }> {
    const user = this.#person(id);
    return membership.onPlatform(
      this.#setting,
      this.#user,
      'platform.people',
      (tx) => membership.tenantsToErase(tx, user),
      async (_, inside) => ({
        result: await membership.erasePerson(inside, user),
        done: { what: 'person erased', event: { user } },
      }),
    );
  }
}
