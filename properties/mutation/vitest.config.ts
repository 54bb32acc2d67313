import { mergeConfig } from 'vitest/config';
import all from '../../test/vitest.config.js';

// Without a name, those that pin the heart down without a database: `LINTEL_MUTATE=scope,queries npm run mutate` takes others.
const files = (process.env.LINTEL_MUTATE ?? 'predicate,reason,standing,judged,charter').split(',');

export default mergeConfig(
  { ...all, test: { ...all.test, include: [] } },
  {
    test: {
      env: { LINTEL_CASES: '600' },
      setupFiles: files.includes('policies') ? ['properties/mutation/wall.ts'] : [],
      include: files.map((file) => `test/${file}.test.ts`),
    },
  },
);
