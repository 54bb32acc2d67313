import { agree } from './agree/property.js';
import { attack } from './attack/property.js';
import type { Property } from './harness/property.js';
import { queries } from './queries/property.js';
import { races } from './races/property.js';
import { wall } from './wall/property.js';

/** Every generator, by name. */
export const PROPERTIES: Readonly<Record<string, Property>> = { agree, attack, queries, races, wall };
