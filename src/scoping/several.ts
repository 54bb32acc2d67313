import { LintelError } from '../base/index.js';
import { Boundary } from './boundary.js';
import { type Fragment, joinFragments, sqlText } from './fragment.js';

/** What one person may read in any of several tenants: each row is held to the rule of its own tenant. */
export class SeveralBoundaries extends Boundary {
  readonly #each: readonly Boundary[];

  /** @throws LintelError `no-tenant` for none at all. */
  constructor(each: readonly Boundary[]) {
    const [first] = each;
    if (!first) throw new LintelError('no-tenant', 'there is no tenant to read in; name at least one', {});
    super(first.standing, first.support, first.writer);
    this.#each = each;
  }

  override get writable(): boolean {
    return false;
  }

  override tenant(kind: string, alias: string): Fragment {
    return either(this.#each.map((one) => one.tenant(kind, alias)));
  }

  override reached(kind: string, action: string, alias: string, image?: 'after'): Fragment {
    return either(this.#each.map((one) => one.reached(kind, action, alias, image)));
  }

  override shows(kind: string, field: string, alias: string): Fragment | undefined {
    const conditions = this.#each.map((one) => ({ one, shows: one.shows(kind, field, alias) }));
    if (conditions.every(({ shows }) => shows === undefined)) return undefined;
    return either(conditions.map(({ one, shows }) => (shows ? sqlText`${one.tenant(kind, alias)} and ${shows}` : one.tenant(kind, alias))));
  }
}

function either(parts: readonly Fragment[]): Fragment {
  const each = parts.map((part) => sqlText`(${part})`);
  return sqlText`(${joinFragments(each, ' or ')})`;
}
