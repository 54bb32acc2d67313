import { type Command, Option } from '@commander-js/extra-typings';
import pc from 'picocolors';
import type { Log } from 'sarif';
import { LintelError } from '../base/index.js';
import { roleNow } from '../charter/index.js';
import { REVIEW_CODES, type ReviewFinding, reviewCharter, reviewTenant, TENANT_CODES } from '../rehearsal/index.js';
import { tallyRecords } from '../scoping/index.js';
import type { Lintel } from '../server/index.js';
import { type Judged, judged, nameOf, open } from './accepting.js';
import { findCharterFile, readConfig, type Sources } from './config.js';
import { findTenant, standingsOf, withDatabase } from './look.js';
import { withSources } from './options.js';
import { placesIn, type SourcePlace } from './place.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface ReviewOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly format: 'text' | 'json' | 'sarif';
}

type Found = Judged<ReviewFinding> & { readonly source?: SourcePlace };

export const CODES: Readonly<Record<string, { readonly why: string; readonly remedy: string }>> = { ...REVIEW_CODES, ...TENANT_CODES };

/** What is found in one tenant; its places begin with the tenant's id. */
export async function foundInTenant(lintel: Lintel, wanted: string): Promise<ReviewFinding[]> {
  const { charter } = lintel;
  const tenant = await findTenant(lintel, wanted);
  const records = await lintel.recordsOf(tenant.id);
  const members = await standingsOf(tenant);
  const [roles, groups] = await Promise.all([
    lintel.db.selectFrom('lintel_role').select(['id', 'data']).where('tenant_id', '=', tenant.id).execute(),
    lintel.db.selectFrom('lintel_group').select(['id', 'name']).where('tenant_id', '=', tenant.id).execute(),
  ]);
  const own = Object.fromEntries(roles.map(({ id, data }) => [id, roleNow(charter, data)]));
  const reads = new Map<string, number | null>(members.map((standing) => [standing.userId as string, 0]));
  for (const [kind, { shared }] of Object.entries(charter.data.kinds)) {
    if (shared || !charter.permissions.has(`${kind}.read`)) continue;
    const asked = members.map((standing) => standing.reachOf(`${kind}.read`));
    const { counts } = await tallyRecords(records, charter.shapes, kind, tenant.id, asked);
    for (const [i, { userId }] of members.entries()) {
      const [known, more] = [reads.get(userId as string) ?? null, counts[i] ?? null];
      reads.set(userId as string, known === null || more === null ? null : known + more);
    }
  }
  const found = reviewTenant({ charter: charter.withRoles(own), own, members, groups, reads });
  return found.map((one) => ({ ...one, place: `${tenant.id}.${one.place}` }));
}

/** SARIF 2.1.0, sections 3.13 to 3.35. What was accepted is suppressed, with its reason. */
function sarifOf(findings: readonly Found[]): Log {
  const rules = Object.entries(CODES).map(([id, { why, remedy }]) => ({ id, shortDescription: { text: why }, help: { text: remedy } }));
  const results = findings.map(({ code, severity, place, message, example, accepted, source }) => ({
    ruleId: code,
    level: severity,
    message: { text: example === undefined ? message : `${message}; for example ${example}` },
    locations: [
      {
        logicalLocations: [{ fullyQualifiedName: place }],
        ...(source && { physicalLocation: { artifactLocation: { uri: source.file }, region: { startLine: source.line } } }),
      },
    ],
    ...(accepted !== undefined && { suppressions: [{ kind: 'external' as const, justification: accepted }] }),
  }));
  return {
    $schema: 'https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json',
    version: '2.1.0',
    runs: [{ tool: { driver: { name: 'lintel review', rules } }, results }],
  };
}

function printed(findings: readonly Found[], colours: boolean): string {
  const c = pc.createColors(colours);
  const tint = { error: c.red, warning: c.magenta, note: c.cyan };
  const left = open(findings);
  const lines = left.map(({ code, severity, place, message, example, source }) => {
    const { why, remedy } = CODES[code] as (typeof CODES)[string];
    return [
      `${tint[severity](severity)}  ${place}  ${c.dim(source ? `${code}  ${source.file}:${source.line}` : code)}`,
      `  ${message}`,
      ...(example === undefined ? [] : [`  For example ${example}.`]),
      `  ${why} ${remedy}`,
    ].join('\n');
  });
  const accepted = findings.length - left.length;
  const count = left.length === 0 ? c.green('Nothing was found.') : `${left.length} found`;
  return [...lines, `${count}${accepted > 0 ? ` ${accepted} accepted.` : ''}`].join('\n\n');
}

async function reviewCommand(options: ReviewOptions, around: Surroundings): Promise<number> {
  const config = await readConfig(options, around.cwd);
  const { accepted = {} } = config;
  const found: ReviewFinding[] = [
    ...reviewCharter(config.charter),
    ...(options.tenant === undefined ? [] : await withDatabase(config, (lintel) => foundInTenant(lintel, options.tenant as string))),
  ];
  const ofCharter = (name: string) => Object.hasOwn(REVIEW_CODES, name.split(' ')[0] as string) && !/ (?!kinds|limits|roles|apart|visitor|signedIn)/.test(name);
  // What was accepted in another tenant is not looked for in this one.
  const stale = Object.keys(accepted).find((name) => ofCharter(name) && !found.some(({ code, place }) => nameOf(code, place) === name));
  if (stale !== undefined)
    throw new LintelError('config-invalid', `accepted names "${stale}", and that is not found any more; leave it out of lintel.config.ts`, { accepted: stale });
  const sourceOf = await placesIn(await findCharterFile(options, around.cwd), around.cwd);
  const findings = judged(found, accepted, ({ place }) => place).map((one): Found => {
    const source = ofCharter(nameOf(one.code, one.place)) ? sourceOf(one.place) : undefined;
    return { ...one, ...(source && { source }) };
  });
  around.out(
    {
      text: () => printed(findings, around.colours),
      json: () => JSON.stringify(findings, null, 2),
      sarif: () => JSON.stringify(sarifOf(findings), null, 2),
    }[options.format](),
  );
  return open(findings).some(({ severity }) => severity !== 'note') ? EXIT.refused : EXIT.yes;
}

export function addReviewCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(
    program
      .command('review')
      .description(
        'Reads the charter critically: what contradicts itself, gives nothing, gives more than it seems, or lets people raise one another. With --tenant, its people, groups and roles too.',
      ),
  )
    .addOption(new Option('--format <format>', 'how to write what was found').choices(['text', 'json', 'sarif'] as const).default('text' as const))
    .addHelpText(
      'after',
      '\nExample:\n  lintel review --format sarif > review.sarif\n  lintel review --tenant alderbrook\n\nA finding is accepted in lintel.config.ts, with a reason:\n  accepted: { "roles-alike roles.helper": "they part with the next release" }\n\nExit codes: 0 nothing but notes, 1 something was found, 2 not answered',
    )
    .action(async (options) => {
      answered(await reviewCommand(options, around));
    });
}
