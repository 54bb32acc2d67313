import { test } from 'vitest';

/** True in the long run, which draws in volume and runs what takes too long for every commit. */
export const LONG = Boolean(process.env.LINTEL_LONG);

/** A test of the long run alone: CONTRIBUTING lists them with the reason. */
export const testLong = test.runIf(LONG);
