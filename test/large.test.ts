/* What is asked of one, or by the page, does not grow with the organisation, the record, or the number of organisations. */
import { expect, test } from 'vitest';
import { large } from '../bench/large.js';
import { LONG } from './long.js';

const long = LONG;

test.skipIf(!long)(
  'at a hundred times the size a page, a search, a proposal, a change and a standing take no longer than half as long again',
  { timeout: 3_600_000 },
  async () => {
    const results = await large();
    for (const { name, ratio } of results) console.log(name, ratio.toFixed(2));
    expect(results.filter(({ ratio, bound }) => bound !== undefined && ratio > bound).map(({ name, ratio }) => `${name} ${ratio.toFixed(2)}`)).toEqual([]);
  },
);
