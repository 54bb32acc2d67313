/* The wall is put up once for all tests of row policies, and Stryker tries a change with those tests alone that ran what it changes: here each of them does. */
// @ts-nocheck

import { beforeEach } from 'vitest';
import { policyStatements } from 'warm-lintel/server';
import { charter } from '../../examples/apiary/world/charter.js';

beforeEach(() => {
  policyStatements(charter as never, { role: 'anybody' });
});
