import { mergeConfig } from 'vitest/config';
import all from '../vitest.config.js';

// Those that pin the heart down without a database. Name more here for what only a database shows.
const files = ['predicate', 'reason', 'standing', 'judged', 'charter'];

export default mergeConfig(
  { ...all, test: { ...all.test, include: [] } },
  { test: { env: { LINTEL_CASES: '600' }, include: files.map((file) => `test/${file}.test.ts`) } },
);
