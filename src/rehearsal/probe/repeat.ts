import type { ProbeFinding } from './findings.js';

const shellQuoted = (text: string) => `'${text.replaceAll("'", `'\\''`)}'`;

/** A finding as a line for a shell. The session is for whoever runs it to fill in. */
export function asCurl({ request: { method, url, body, headers = {} }, person }: ProbeFinding): string {
  const cookie = person.id === null ? '' : ` -H "cookie: $COOKIE_OF_${person.id.toUpperCase().replace(/\W/g, '_')}"`;
  const data = body === undefined ? '' : ` -H 'content-type: application/json' --data ${shellQuoted(JSON.stringify(body))}`;
  const more = Object.entries(headers).map(([name, value]) => ` -H ${shellQuoted(`${name}: ${value}`)}`);
  return `curl -i -X ${method}${cookie}${more.join('')}${data} ${shellQuoted(url)}`;
}

/** A finding as a test that fails as long as it is so: `probe` again, for this route alone. */
export function asTest({ code, route, person }: ProbeFinding): string {
  return [
    `test(${JSON.stringify(`${route}: ${code} (${person.name})`)}, async () => {`,
    `  const { findings } = await probe(lintel, db, { ...target, only: [${JSON.stringify(route)}] });`,
    `  expect(findings.filter(({ code }) => code === ${JSON.stringify(code)})).toEqual([]);`,
    '});',
  ].join('\n');
}
