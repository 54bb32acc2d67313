import * as z from 'zod';

export const id = z.string().min(1).max(200);
export const name = z.string().max(200);
/** Of an attribute. */
export const value = z.union([z.string().max(500), z.number(), z.boolean()]);
