import { resolveTxt } from 'node:dns/promises';
import publicProviders from 'email-providers';
import { LintelError } from '../base/index.js';
import { recordOf } from '../membership/index.js';
import type { DomainToSee, Lintel, Seen, ServerStanding } from '../server/index.js';

/** How mail domains are looked up. */
export interface DomainsOptions {
  /** Asks the DNS for the texts at a name, as `node:dns/promises` does. Default: that. */
  readonly resolveTxt?: (name: string) => Promise<string[][]>;
  /** True of a domain under which anybody gets an address, which is nobody's. Default: a list of ten thousand. */
  readonly isPublic?: (domain: string) => boolean;
  /** Milliseconds since 1970. Default: the system's clock. */
  readonly clock?: () => number;
}

/** What was shown is looked at again after so many days. */
const AGAIN_DAYS = 1;
const DAY = 86_400_000;
/** The DNS has an answer, and it is that there is none. */
const NONE: readonly string[] = ['ENOTFOUND', 'ENODATA'];

let known: ReadonlySet<string> | undefined;
function isPublicProvider(domain: string): boolean {
  known ??= new Set(publicProviders);
  return known.has(domain);
}

/**
 * Which mail domains are whose, by records in the DNS. Nothing of it is asked while anything is locked.
 *
 * @example
 * const domains = new Domains(lintel);
 * await domains.prove(await lintel.enter({ tenant, user }), 'county.example');
 * setInterval(() => void domains.lookAgain(), 3_600_000);
 */
export class Domains {
  readonly #lintel: Lintel<any>;
  readonly #options: DomainsOptions;

  constructor(lintel: Lintel<any>, options: DomainsOptions = {}) {
    this.#lintel = lintel;
    this.#options = options;
  }

  get #now(): number {
    return (this.#options.clock ?? Date.now)();
  }

  async #see({ domain, challenge }: DomainToSee): Promise<Seen> {
    const { name, value } = recordOf(domain, challenge);
    try {
      const texts = await (this.#options.resolveTxt ?? resolveTxt)(name);
      // guard domain-record-is-ours by arrival: Another tenant's record would prove a domain.
      return texts.some((parts) => /* guard domain-record-is-ours (negated) */ parts.join('') === value) ? 'there' : 'missing';
    } catch (error) {
      // guard unresolved-is-not-missing by arrival: A failing name server would make a domain lapse.
      return NONE.includes((error as { readonly code?: string }).code ?? '') ? 'missing' : /* guard unresolved-is-not-missing */ 'unknown';
    }
  }

  /**
   * Looks for the record of a domain that was claimed. Where another tenant has the domain, its record is looked at too: missing, that tenant has it no more; there, or not to be told, the platform decides.
   *
   * @throws LintelError `refused` without full control, `prove-first`, `not-found`; `public-domain` for one under which anybody gets an address; `domain-not-shown`, `domain-held`.
   */
  async prove(standing: ServerStanding<any>, domain: string): Promise<void> {
    // guard public-domain-refused by arrival: A tenant could claim the domain of a public mail provider.
    if ((this.#options.isPublic ?? isPublicProvider)(domain))
      throw new LintelError('public-domain', `Under ${domain} anybody gets an address: it is nobody’s. Give a domain of your own.`, { domain });
    const mine = (await standing.connections.domains()).find((one) => one.domain === domain);
    if (!mine) throw new LintelError('not-found', 'There is no such domain here.', {});
    const tenantId = standing.facts.tenant.id;
    const challenge = mine.record.value.replace(/^.*=/, '');
    if ((await this.#see({ tenantId, domain, challenge })) !== 'there')
      throw new LintelError(
        'domain-not-shown',
        `There is no record ${mine.record.name} of the type TXT that says ${mine.record.value}. It may take an hour until it is seen.`,
        { domain },
      );
    const holder = await this.#lintel.domainHolder(domain);
    const first = holder && holder.tenantId !== tenantId ? { tenantId: holder.tenantId, seen: await this.#see(holder) } : undefined;
    await standing.connections.proveDomain(domain, first);
  }

  /** Looks again at what was shown, each once a day: a record that is missing for three days ends it. Call it now and then. @returns how many were looked at. */
  async lookAgain(): Promise<number> {
    const all = await this.#lintel.domainsToSee(new Date(this.#now - AGAIN_DAYS * DAY));
    for (const one of all) await this.#lintel.domainSeen(one.tenantId, one.domain, await this.#see(one));
    return all.length;
  }
}
