import type { PGlite } from '@electric-sql/pglite';
import { embeddedWorld } from '../examples/apiary/world/embedded.js';

/** An empty embedded database. It is the demo's snapshot without its tables, which opens in a tenth of the time that a fresh one takes. */
export async function emptyPglite(): Promise<PGlite> {
  const pglite = await embeddedWorld();
  await pglite.exec('drop schema public cascade; create schema public');
  return pglite;
}
