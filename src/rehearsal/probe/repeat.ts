import type { ProbeFinding } from './findings.js';
import type { Sent } from './send.js';

const shellQuoted = (text: string) => `'${text.replaceAll("'", `'\\''`)}'`;

/** A finding as a line for a shell, of two where two were sent at once. The session is for whoever runs it to fill in. */
export function asCurl({ request, person }: ProbeFinding): string {
  const own = curl(request, person.id === null ? '' : ` -H "cookie: $COOKIE_OF_${person.id.toUpperCase().replace(/\W/g, '_')}"`);
  return request.beside ? `${curl(request.beside, ' -H "cookie: $COOKIE_OF_THE_OTHER"')} & ${own}` : own;
}

function curl({ method, url, body, headers = {} }: Sent, cookie: string): string {
  const data = body === undefined ? '' : ` -H 'content-type: application/json' --data ${shellQuoted(JSON.stringify(body))}`;
  const more = Object.entries(headers).map(([name, value]) => ` -H ${shellQuoted(`${name}: ${value}`)}`);
  return `curl -i -X ${method}${cookie}${more.join('')}${data} ${shellQuoted(url)}`;
}

/** A finding as a test that fails as long as it is so: `probe` again, for this route alone. */
export function asTest({ code, route, about, person, request }: ProbeFinding): string {
  const only = JSON.stringify([...new Set(request.beside ? [route, about] : [route])]).replaceAll(',', ', ');
  return [
    `test(${JSON.stringify(`${route}: ${code} (${person.name})`)}, async () => {`,
    `  const { findings } = await probe(lintel, db, { ...target, only: ${only} });`,
    `  expect(findings.filter(({ code }) => code === ${JSON.stringify(code)})).toEqual([]);`,
    '});',
  ].join('\n');
}
