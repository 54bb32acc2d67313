import * as z from 'zod';
import { DEEPEST, MOST_BYTES, type Operation, type Placed } from './operation.js';
import { problemDetails } from './schemas.js';

type Json = Record<string, unknown>;

const json = (schema: unknown) => ({ 'application/json': { schema } });
const IF_MATCH = {
  name: 'If-Match',
  in: 'header',
  required: false,
  schema: { type: 'string' },
  description: 'The ETag of what was looked at: with a later change nothing is done (412)',
};
const IF_NONE_MATCH = { ...IF_MATCH, name: 'If-None-Match', description: 'The ETag that is known: answered 304 where nothing has changed' };
const IDEMPOTENCY = {
  name: 'Idempotency-Key',
  in: 'header',
  required: false,
  schema: { type: 'string', maxLength: 200 },
  description: 'The same request again under this key does nothing, and is answered as the first time, for 24 hours',
};

/** The schemas that have names of their own, and each use of one as a reference. */
function schemasOf(operations: readonly Operation[]) {
  const components: Record<string, Json> = {};
  const schemaOf = (schema: z.ZodType, io: 'input' | 'output'): Json => {
    const {
      $schema: _,
      $defs,
      ...made
    } = z.toJSONSchema(schema, { io, unrepresentable: 'any', reused: 'inline', override: ({ jsonSchema }) => void delete jsonSchema.id }) as Json & {
      $defs?: Record<string, Json>;
    };
    for (const [name, definition] of Object.entries($defs ?? {})) components[name] ??= definition;
    return made;
  };
  const parts = operations.map((operation) => ({
    operation,
    query: operation.query && schemaOf(operation.query, 'input'),
    body: operation.body && schemaOf(operation.body, 'input'),
    answers: schemaOf(operation.answers, 'output'),
  }));
  // Named by no operation, and by all: it comes to stand among the others.
  schemaOf(problemDetails, 'output');
  const text = (value: unknown) => JSON.parse(JSON.stringify(value).replaceAll('"#/$defs/', '"#/components/schemas/')) as Json;
  return { parts: parts.map((part) => text({ ...part, operation: undefined })), components: text(components) };
}

/** What is bounded besides what the schemas say. */
function boundsOf({ body, most = MOST_BYTES, costs = 1 }: Operation): string {
  const told = [...(costs > 1 ? [`Counts as ${costs} requests.`] : []), ...(body ? [`The body has at most ${most} bytes, nested ${DEEPEST} deep.`] : [])];
  return told.join(' ');
}

/** The face as OpenAPI 3.1 has it, made from the schemas that check what comes in. */
export function openApi(title: string, operations: readonly Placed[]): Json {
  const { parts, components } = schemasOf(operations);
  const paths: Record<string, Json> = {};
  for (const [i, operation] of operations.entries()) {
    const { query, body, answers } = parts[i] as { query?: { properties: Record<string, Json>; required?: string[] }; body?: Json; answers: Json };
    const inPath = [...operation.path.matchAll(/\{(\w+)\}/g)].map(([, name]) => ({ name, in: 'path', required: true, schema: { type: 'string' } }));
    const inQuery = Object.entries(query?.properties ?? {}).map(([name, schema]) => ({
      name,
      in: 'query',
      required: query?.required?.includes(name) ?? false,
      schema,
    }));
    const takes = operation.in === 'tenant' ? operation.takes : undefined;
    const headers =
      takes === 'if-match'
        ? [IF_MATCH]
        : takes === 'idempotency-key'
          ? [IDEMPOTENCY]
          : operation.method === 'GET' && operation.in === 'tenant' && !operation.fresh
            ? [IF_NONE_MATCH]
            : [];
    paths[operation.path] = {
      ...paths[operation.path],
      [operation.method.toLowerCase()]: {
        operationId: operation.id,
        summary: operation.summary,
        ...(boundsOf(operation) && { description: boundsOf(operation) }),
        ...(inPath.length + inQuery.length + headers.length > 0 && { parameters: [...inPath, ...inQuery, ...headers] }),
        ...(body && { requestBody: { required: true, content: json(body) } }),
        ...(operation.in === 'nobody' && { security: [] }),
        // By the library's own cookie, where there is one.
        ...(operation.in === 'account' && { security: [{ session: [] }, {}] }),
        responses: {
          200: { description: 'Done', content: json(answers) },
          default: { description: 'Not done', content: { 'application/problem+json': { schema: { $ref: '#/components/schemas/Problem' } } } },
        },
      },
    };
  }
  return {
    openapi: '3.1.0',
    info: { title, version: '1' },
    security: [{ session: [] }, { key: [] }],
    paths,
    components: {
      schemas: components,
      securitySchemes: {
        session: { type: 'apiKey', in: 'cookie', name: 'session', description: 'Whatever the application keeps people signed in by' },
        key: { type: 'http', scheme: 'bearer', description: 'The key of a program' },
      },
    },
  };
}
