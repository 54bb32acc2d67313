/* Makes docs/reference from the code: `npm run reference`; with `--check` it says what differs, and changes nothing. */
import { existsSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { PGlite } from '@electric-sql/pglite';
import { Application, type DeclarationReflection, ReflectionKind } from 'typedoc';
import ts from 'typescript';
import { operationsOf, PEOPLE_REACHES, reachesOfOperation } from '../src/charter/operations.js';
import { commands } from '../src/cli/program.js';
import { ACCOUNT } from '../src/http/accounts.js';
import { openApi } from '../src/http/openapi.js';
import { placed } from '../src/http/operation.js';
import { OPERATIONS } from '../src/http/operations.js';
import { HANDLERS } from '../src/membership/carrying/run.js';
import { PROBE_CODES, REVIEW_CODES, TENANT_CODES } from '../src/rehearsal/index.js';
import { connect, migrate } from '../src/store/index.js';

const OUT = 'docs/reference';
const cell = (text: string) => text.replace(/\s+/g, ' ').replaceAll('|', '\\|').trim();
const table = (head: readonly string[], rows: readonly (readonly string[])[]) =>
  [head, head.map(() => '---'), ...rows].map((row) => `| ${row.map(cell).join(' | ')} |`).join('\n');
const code = (text: string) => `\`${text}\``;
const page = (title: string, intro: string, ...parts: readonly string[]) => [`# ${title}`, intro, ...parts].join('\n\n').concat('\n');

/** What is in each of the library's tables. */
const TABLES: Readonly<Record<string, string>> = {
  lintel_accepted: 'Which version of the terms somebody has accepted.',
  lintel_activation: 'Ways in to accounts that a tenant keeps, handed over on paper: as hashes.',
  lintel_address_held: 'Addresses that somebody had before, and until when.',
  lintel_address_proof: 'Addresses that somebody wants to have, until they are proven.',
  lintel_answer: 'What was answered to a request with a key of its own, so that the same one again does nothing.',
  lintel_appeal: 'Actions that somebody was refused and asks for.',
  lintel_assignment: 'Who holds which role or permission: where, until when, and by which source.',
  lintel_audit: 'The record of changes: a chain of hashes within each tenant.',
  lintel_audit_words: 'Names, addresses and reasons of events, which can be erased without breaking the chain.',
  lintel_bar: 'Who was removed or left, and comes in again only by somebody who lets them in.',
  lintel_brought: 'What an intake has brought, and what it said of it last.',
  lintel_care: 'Who of the platform looks after which tenant, with what, until when.',
  lintel_challenge: 'Challenges of passkeys that are being answered.',
  lintel_charter: 'The charters with which the application has started, in their order.',
  lintel_connection: 'Providers by which people sign in, with their rules; secrets are sealed.',
  lintel_credential: 'Passwords, as Argon2id hashes.',
  lintel_deputy: 'Who stands in for whom, for what, from when until when.',
  lintel_device: 'Devices from which somebody has signed in before: as hashes.',
  lintel_directory_group: 'Groups that a directory has brought.',
  lintel_directory_unknown: 'What a directory says and nobody here knows.',
  lintel_directory_user: 'People whom a directory has brought.',
  lintel_domain: 'Mail domains that a tenant says are theirs, and whether that was shown.',
  lintel_domain_holder: 'Which tenant has a domain, by domain.',
  lintel_entered: 'When a member last came in.',
  lintel_erased: 'Ids of people who were erased, so that none is used again.',
  lintel_factor: 'Second factors by an authenticator: sealed.',
  lintel_group: 'Groups.',
  lintel_group_member: 'Who is in which group, and by which source.',
  lintel_identity: 'Who somebody is at a provider.',
  lintel_identity_bar: 'Who was removed and does not come in again by a provider: by keyed hashes.',
  lintel_invitation: 'Invitations, with what they give; their links as hashes.',
  lintel_journal: 'What was done to records of kinds with a journal, field by field.',
  lintel_key: 'Keys of programs: as hashes.',
  lintel_link: 'Links in letters about accounts: as hashes.',
  lintel_listener: 'How far each listener of the application has come in each tenant.',
  lintel_look: 'Who looks as whom, until when.',
  lintel_mailed: 'How many messages went to an address, so that nobody is flooded.',
  lintel_leaving: 'Who has left, while records in another database still name them.',
  lintel_member: 'Who belongs to which tenant: active or suspended, since when, until when.',
  lintel_member_word: 'The words by which each member is searched, of their name and address. The database keeps them.',
  lintel_migration: 'Which steps of these tables were run.',
  lintel_opening: 'What people of a group own that is open to others.',
  lintel_opening_kept: 'People whose records an opening keeps open although they left its group.',
  lintel_outbox: 'Messages to be sent.',
  lintel_passkey: 'Passkeys: public keys.',
  lintel_person: 'People and programs, with their addresses.',
  lintel_person_tenant: 'Which tenants a person belongs to, by person.',
  lintel_placement: 'Who is placed at which unit, and by which source.',
  lintel_recovery_code: 'Recovery codes of second factors: as hashes.',
  lintel_request: 'Who asks to be let in.',
  lintel_role: 'Roles of a tenant’s own.',
  lintel_secret: 'Secrets of the library itself, such as the key that signs a standing for row policies.',
  lintel_session: 'Sessions of the library’s own accounts: as hashes.',
  lintel_sign_in: 'When somebody signed in, or was refused, and from where.',
  lintel_tenant: 'Tenants, with their rules, plan, and where their record stands.',
  lintel_try: 'Wrong passwords and codes, counted.',
  lintel_unheard: 'Events at which a listener failed again and again.',
  lintel_unit: 'Units, each with the one above it.',
  lintel_unit_below: 'Every unit with every unit at or below it.',
  lintel_used: 'Answers of providers that were used, so that none is used twice.',
  lintel_wrote: 'Who wrote when last to records of which there are copies for reading.',
};

/** Kinds of things that have to say what they are. */
const DOCUMENTED = ReflectionKind.ClassOrInterface | ReflectionKind.FunctionOrMethod | ReflectionKind.TypeAlias | ReflectionKind.Variable;

/** What is public and says nothing of itself: each export and method, and each option. */
function silent(all: readonly DeclarationReflection[]): string[] {
  return all.flatMap((one) => {
    const says = one.hasComment() || one.signatures?.some((signature) => signature.hasComment()) || one.getSignature?.hasComment();
    const isOption = one.kind === ReflectionKind.Property && /Options$|^LintelConfig$|^ClientOptions$/.test(one.parent?.name ?? '');
    const isPublic =
      one.kindOf(DOCUMENTED) && !one.flags.isExternal && one.parent?.kindOf(ReflectionKind.Module | ReflectionKind.Project | ReflectionKind.ClassOrInterface);
    return (isOption || isPublic) && !says && !one.inheritedFrom ? [one.getFullName()] : [];
  });
}

async function api(out: string): Promise<string[]> {
  const app = await Application.bootstrapWithPlugins({ options: 'scripts/typedoc.json', out: join(out, 'api'), logLevel: 'Error' });
  const project = await app.convert();
  if (!project) throw new Error('The API could not be read: run npm run types');
  await app.generateOutputs(project);
  return silent(project.getReflectionsByKind(ReflectionKind.All) as DeclarationReflection[]);
}

/** The operation that a step needs whatever it says; else what it says decides. */
function needsOf(name: string): string {
  const { needs } = (HANDLERS as Record<string, { needs: (step: object, by: object) => string | undefined }>)[name] as {
    needs: (step: object, by: object) => string | undefined;
  };
  try {
    const [one, other] = ['a', 'b'].map((user) =>
      needs({ do: name, user, holder: { user }, of: user, to: user, roles: [], permissions: [], attributes: {} }, { actor: { userId: 'a' } }),
    );
    return one === undefined ? (other === undefined ? 'see there' : `${code(other)}, or it is oneself`) : one === other ? code(one) : 'see there';
  } catch {
    return 'see there';
  }
}

/** The steps, as the type says them: name, sentence, and what each takes. */
function steps(): string {
  const file = 'src/membership/terms/step.ts';
  const source = ts.createSourceFile(file, readFileSync(file, 'utf8'), ts.ScriptTarget.Latest, true);
  const union = source.statements.find((one): one is ts.TypeAliasDeclaration => ts.isTypeAliasDeclaration(one) && one.name.text === 'Step');
  const membersOf = (node: ts.TypeNode): ts.PropertySignature[] => {
    if (ts.isParenthesizedTypeNode(node)) return membersOf(node.type);
    if (ts.isIntersectionTypeNode(node)) return node.types.flatMap(membersOf);
    return ts.isTypeLiteralNode(node) ? node.members.filter(ts.isPropertySignature) : [];
  };
  if (!union || !ts.isUnionTypeNode(union.type)) throw new Error(`${file} has no union Step`);
  const { types, pos } = union.type;
  const rows = types.map((node, i) => {
    const before = source.text.slice(types[i - 1]?.end ?? pos, node.getStart());
    const words = [...before.matchAll(/\/\*\*([\s\S]*?)\*\//g)].at(-1)?.[1]?.replace(/^\s*\* ?/gm, '') ?? '';
    const members = membersOf(node);
    const name = (members[0]?.type?.getText() ?? '').replaceAll("'", '');
    const more = node.getText().includes('& Gives') ? [code('groups?'), code('units?'), code('permissions?'), code('attributes?')] : [];
    const parts = members.slice(1).map((one) => {
      const type =
        one.type
          ?.getText()
          .replace(/readonly /g, '')
          .replace(/\s+/g, ' ') ?? '';
      return `${code(`${one.name.getText()}${one.questionToken ? '?' : ''}`)}: ${code(type)}`;
    });
    if (words === '') throw new Error(`The step ${name} says nothing of itself: give it a sentence in ${file}`);
    return [code(name), words, [...parts, ...more].join(', ') || 'nothing', needsOf(name)];
  });
  return page(
    'Steps',
    'A step is one change of a tenant’s membership. `standing.carryOut(steps)` does some, all or none; `standing.propose(steps)` says what they would do. Over HTTP: `change` and `propose`. `?` marks what may be left out; moments are texts in ISO 8601. How they are used: [People and roles](../guide/02-people-and-roles.md).',
    "```js\nconst maren = await lintel.enter({ tenant: 'alderbrook', user: 'maren' });\nconst roles = [{ role: 'reader', anchor: { on: 'tenant' } }];\nawait maren.carryOut([{ do: 'set-roles', holder: { user: 'lene' }, roles }], { reason: 'asked for it' });\n```",
    table(['step', 'what it does', 'takes', 'permission'], rows),
    'A holder is `{ user }`, `{ group }` (the people of it) or `{ unit }` (whoever is placed there or below). *See there*: the permission depends on what the step says, or none is needed.',
  );
}

function permissions(): string {
  const rows = Object.entries(operationsOf(true)).map(([name, { label, needs = [] }]) => {
    const reaches = reachesOfOperation(name, {});
    return [
      code(name),
      label,
      reaches.length === 1 ? 'the whole tenant' : [...PEOPLE_REACHES.map(code), '`role.NAME`'].join(', '),
      needs.map(code).join(', ') || 'nothing',
      name.startsWith('platform.') ? 'with `platform: true`' : '',
    ];
  });
  return page(
    'Permissions',
    'A permission is an action on a kind of record (`hive.update`), an area of the application (`area.ledger`), or one of the operations below, which come with the library. A role names it with how far it reaches. The actions of your kinds: [The charter](charter.md).',
    "```js\nconst roles = { secretary: { label: 'Secretary', may: { 'member.read': 'tenant', 'member.invite': 'tenant', 'area.members': 'tenant' } } };\n```",
    table(['operation', 'called', 'reaches', 'does not work without', 'there'], rows),
    '`tenant`: all members. `units`: who is placed where one is placed, or below. `groups`: who shares a group. `self`: oneself. `role.NAME`: whoever holds that role. What each lets somebody do over HTTP: [HTTP](http.md).',
  );
}

function http(): string {
  const all = placed({ ...OPERATIONS, ...ACCOUNT });
  const described = openApi('Membership', all) as { paths: Record<string, Record<string, any>> };
  const names = (schema: any): string[] =>
    schema === undefined
      ? []
      : schema.anyOf
        ? schema.anyOf.map((one: any) => names(one).join(', ') || one.$ref?.split('/').at(-1))
        : Object.keys(schema.properties ?? {}).map((name) => (schema.required?.includes(name) ? code(name) : code(`${name}?`)));
  const typeOf = (schema: any): string => schema?.$ref?.split('/').at(-1) ?? names(schema).join(schema?.anyOf ? '; or ' : ', ');
  const rows = all.map(({ id, method, path, summary }) => {
    const { parameters = [], requestBody, description = '' } = described.paths[path]?.[method.toLowerCase()] ?? {};
    const query = parameters.filter((one: any) => one.in === 'query').map((one: any) => code(one.required ? one.name : `${one.name}?`));
    const body = typeOf(requestBody?.content['application/json'].schema);
    return [
      code(id),
      `${code(method)} ${code(path)}`,
      `${summary}. ${description.replace(/ ?The body has at most 65536 bytes, nested \d+ deep\./, '')}`.replace('..', '.'),
      [...query, body].filter(Boolean).join(', '),
    ];
  });
  const headed = (title: string, pick: (path: string) => boolean) =>
    `## ${title}\n\n${table(
      ['operation', 'asked at', 'what it does', 'takes'],
      rows.filter((_, i) => pick(all[i]?.path ?? '')),
    )}`;
  return page(
    'HTTP',
    'The face answers these, from where it is mounted; `/openapi.json` there describes them whole, with what each answers. `createClient()` of `warm-lintel/client` has a method for each. A body has at most 65,536 bytes where nothing else is said. Errors are problem documents (RFC 9457), with the codes of [Errors](errors.md). How to mount it: [The membership over HTTP](../guide/http.md).',
    headed('One’s own', (path) => !/^\/(tenants|account|platform)/.test(path)),
    headed('In a tenant', (path) => path.startsWith('/tenants')),
    headed('Accounts', (path) => path.startsWith('/account')),
    headed('The platform', (path) => path.startsWith('/platform')),
    '`Step` is a [step](steps.md). `?` marks what may be left out.',
  );
}

function commandPages(): string {
  const program = commands({ cwd: '', out: () => {}, err: () => {}, colours: false, width: 100 }, () => {});
  const parts = (program.commands as unknown as any[])
    .filter((one) => one.name() !== 'help')
    .map((one) => {
      const options = one.options.map(({ flags, description, defaultValue, argChoices }: any) => [
        code(flags),
        `${description}${argChoices ? `: ${argChoices.map(code).join(', ')}` : ''}`,
        defaultValue === undefined ? '' : code(String(defaultValue)),
      ]);
      const given = one.registeredArguments.map((argument: any) => [
        code(argument.required ? `<${argument.name()}>` : `[${argument.name()}]`),
        argument.description,
        '',
      ]);
      let help = '';
      one.configureOutput({ writeOut: (text: string) => (help += text), getOutHelpWidth: () => 100 });
      one.outputHelp();
      const example = /Examples?:\n([\s\S]*?)(?:\n\nExit codes|\nExit codes|$)/.exec(help)?.[1]?.replace(/^ {2}/gm, '').trimEnd() ?? '';
      return [
        `## ${one.name()}`,
        one.description(),
        ...(example ? [`\`\`\`sh\n${example}\n\`\`\``] : []),
        table(['given', 'what it is', 'default'], [...given, ...options]),
      ].join('\n\n');
    });
  return page(
    'Commands',
    '`lintel` finds the charter and the database in `lintel.config.ts`, here or above. It changes nothing, unless somebody is named in whose name it is. Exit code 0: answered; 1: answered with no, or something was found; 2: not answered.',
    ...parts,
  );
}

/** What the commands that look for mistakes can find. */
function findings(): string {
  const part = (title: string, intro: string, codes: Readonly<Record<string, { readonly severity: string; readonly why: string; readonly remedy: string }>>) =>
    `## ${title}\n\n${intro}\n\n${table(
      ['code', 'severity', 'why', 'what to do'],
      Object.entries(codes).map(([name, { severity, why, remedy }]) => [code(name), severity, why, remedy]),
    )}`;
  return page(
    'Findings',
    'What is meant so is accepted in `lintel.config.ts`, by code and place, with a reason: `accepted: { "role-empty roles.guest": "given by each organisation" }`.',
    part('Of a charter', '`lintel review`', REVIEW_CODES),
    part('Of a tenant', '`lintel review --tenant`', TENANT_CODES),
    part('Of a running application', '`lintel probe`', PROBE_CODES),
  );
}

/** The library's tables as they are made: what each is for, and its columns. */
async function tables(): Promise<string> {
  const pglite = new PGlite();
  await migrate(connect<never>(pglite));
  const { rows } = await pglite.query<{ name: string; columns: string }>(`
    select c.relname as name, string_agg(a.attname, ', ' order by a.attnum) as columns from pg_class c join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped
    where c.relkind = 'r' and c.relname like 'lintel\\_%' group by 1 order by 1`);
  const lines = rows.map(({ name, columns }) => {
    const words = TABLES[name];
    if (words === undefined) throw new Error(`${name} is told nowhere: give it a sentence in scripts/reference.ts`);
    return [code(name), words, columns.split(', ').map(code).join(', ')];
  });
  const gone = Object.keys(TABLES).filter((name) => !rows.some((row) => row.name === name));
  if (gone.length > 0) throw new Error(`There is no ${gone.join(', ')} any more: take it out of scripts/reference.ts`);
  await pglite.close();
  return page(
    'Tables',
    '`lintel.prepare()` makes these beside yours, and brings them up to date. Keys of a tenant’s tables begin with `tenant_id`, so that they can be distributed by it. Read them if you like; write them by the library alone.',
    table(['table', 'what is in it', 'columns'], lines),
  );
}

const isCheck = process.argv.includes('--check');
const out = isCheck ? mkdtempSync(join(tmpdir(), 'reference-')) : OUT;
const made: Record<string, string> = {
  'steps.md': steps(),
  'permissions.md': permissions(),
  'http.md': http(),
  'commands.md': commandPages(),
  'findings.md': findings(),
  'tables.md': await tables(),
};
for (const [name, text] of Object.entries(made)) {
  mkdirSync(dirname(join(out, name)), { recursive: true });
  writeFileSync(join(out, name), text);
}
const without = await api(out);
if (without.length > 0) console.error(`Public, and without a word of what it is:\n  ${without.join('\n  ')}`);
const files = readdirSync(out, { recursive: true, encoding: 'utf8' }).filter((name) => name.endsWith('.md'));
const differing = isCheck
  ? files.filter((name) => !existsSync(join(OUT, name)) || readFileSync(join(OUT, name), 'utf8') !== readFileSync(join(out, name), 'utf8'))
  : [];
if (isCheck) rmSync(out, { recursive: true });
if (differing.length > 0) console.error(`The reference is not that of the code: ${differing.join(', ')}. Make it anew: npm run reference`);
process.exit(without.length + differing.length > 0 ? 1 : 0);
