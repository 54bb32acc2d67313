import * as z from 'zod';

/** AuthZEN Authorization API 1.0, section 5: subject, action, resource, context. */
const entity = z.looseObject({ type: z.string(), id: z.string(), properties: z.record(z.string(), z.unknown()).optional() });
const action = z.looseObject({ name: z.string(), properties: z.record(z.string(), z.unknown()).optional() });
const context = z.record(z.string(), z.unknown());
export const evaluation = z.looseObject({ subject: entity, action, resource: entity, context: context.optional() });
export const evaluations = z.looseObject({
  subject: entity.optional(),
  action: action.optional(),
  resource: entity.optional(),
  context: context.optional(),
  evaluations: z
    .array(z.looseObject({ subject: entity.optional(), action: action.optional(), resource: entity.optional(), context: context.optional() }))
    .max(100)
    .optional(),
  options: z.looseObject({ evaluations_semantic: z.enum(['execute_all', 'deny_on_first_deny', 'permit_on_first_permit']).optional() }).optional(),
});
export const verdict = z.looseObject({ decision: z.boolean(), context: z.record(z.string(), z.unknown()).optional() });
