import { type Command, Option } from '@commander-js/extra-typings';
import pc from 'picocolors';
import type { Log } from 'sarif';
import { LintelError } from '../base/index.js';
import { REVIEW_CODES, type ReviewFinding, reviewCharter } from '../rehearsal/index.js';
import { readConfig, type Sources } from './config.js';
import { EXIT, type Surroundings, withSources } from './surroundings.js';

interface ReviewOptions extends Sources {
  readonly format: 'text' | 'json' | 'sarif';
}

type Judged = ReviewFinding & { readonly accepted?: string };

const nameOf = ({ code, place }: ReviewFinding) => `${code} ${place}`;

/** SARIF 2.1.0, sections 3.13 to 3.35. What was accepted is suppressed, with its reason. */
function sarifOf(findings: readonly Judged[]): Log {
  const rules = Object.entries(REVIEW_CODES).map(([id, { why, remedy }]) => ({ id, shortDescription: { text: why }, help: { text: remedy } }));
  const results = findings.map(({ code, severity, place, message, example, accepted }) => ({
    ruleId: code,
    level: severity,
    message: { text: example === undefined ? message : `${message}; for example ${example}` },
    locations: [{ logicalLocations: [{ fullyQualifiedName: place }] }],
    ...(accepted !== undefined && { suppressions: [{ kind: 'external' as const, justification: accepted }] }),
  }));
  return {
    $schema: 'https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json',
    version: '2.1.0',
    runs: [{ tool: { driver: { name: 'lintel review', rules } }, results }],
  };
}

function printed(findings: readonly Judged[], colours: boolean): string {
  const c = pc.createColors(colours);
  const open = findings.filter(({ accepted }) => accepted === undefined);
  const tint = { error: c.red, warning: c.yellow, note: c.cyan };
  const lines = open.map(({ code, severity, place, message, example }) => {
    const { why, remedy } = REVIEW_CODES[code];
    return [
      `${tint[severity](severity)}  ${place}  ${c.dim(code)}`,
      `  ${message}`,
      ...(example === undefined ? [] : [`  For example ${example}.`]),
      `  ${why} ${remedy}`,
    ].join('\n');
  });
  const accepted = findings.length - open.length;
  const count = open.length === 0 ? c.green('Nothing was found.') : `${open.length} found`;
  return [...lines, `${count}${accepted > 0 ? ` ${accepted} accepted.` : ''}`].join('\n\n');
}

async function reviewCommand(options: ReviewOptions, around: Surroundings): Promise<number> {
  const { charter, accepted = {} } = await readConfig(options, around.cwd);
  const found = reviewCharter(charter);
  const stale = Object.keys(accepted).find((name) => !found.some((one) => nameOf(one) === name));
  if (stale !== undefined)
    throw new LintelError('config-invalid', `accepted names "${stale}", and that is not found any more; leave it out of lintel.config.ts`, { accepted: stale });
  const findings = found.map((one): Judged => {
    const reason = accepted[nameOf(one)];
    return { ...one, ...(reason !== undefined && { accepted: reason }) };
  });
  around.out(
    {
      text: () => printed(findings, around.colours),
      json: () => JSON.stringify(findings, null, 2),
      sarif: () => JSON.stringify(sarifOf(findings), null, 2),
    }[options.format](),
  );
  return findings.some(({ accepted: reason, severity }) => reason === undefined && severity !== 'note') ? EXIT.refused : EXIT.yes;
}

export function addReviewCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(
    program
      .command('review')
      .description('Reads the charter critically: what contradicts itself, gives nothing, gives more than it seems, or lets people raise one another.'),
  )
    .addOption(new Option('--format <format>', 'how to write what was found').choices(['text', 'json', 'sarif'] as const).default('text' as const))
    .addHelpText(
      'after',
      '\nExample:\n  lintel review --format sarif > review.sarif\n\nA finding is accepted in lintel.config.ts, with a reason:\n  accepted: { "roles-alike roles.helper": "they part with the next release" }\n\nExit codes: 0 nothing but notes, 1 something was found, 2 not answered',
    )
    .action(async (options) => {
      answered(await reviewCommand(options, around));
    });
}
