import { readFile } from 'node:fs/promises';
import { resolve } from 'node:path';
import { type Command, Option } from '@commander-js/extra-typings';
import pc from 'picocolors';
import { didYouMean, inParts, isLintelError, LintelError } from '../base/index.js';
import { ONLOOKER, printProposal, proposalMarkdown } from '../rehearsal/index.js';
import type { InviteAnswer, NewInvitation, RoleView, ServerStanding, Step } from '../server/index.js';
import { type Assignment, anchorWords, type Held } from '../standing/index.js';
import { barFor } from './bar.js';
import { readConfig, type Sources } from './config.js';
import { ofOwn } from './copy.js';
import { answer, HELD, heldRows } from './grid.js';
import { actorOf, findPerson, findTenant, rolesIn, type Tenant, withDatabase } from './look.js';
import { formatOption, withSources } from './options.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface Common extends Sources {
  readonly tenant?: string | undefined;
  readonly format: 'text' | 'json' | 'md';
}
interface Acting extends Common {
  readonly as?: string | undefined;
  readonly dryRun?: true | undefined;
  readonly reason?: string | undefined;
}

/** `keeper`, `warden@orchards`, `inspector@hive:a-hive-02`. */
async function readRole(standing: ServerStanding, text: string): Promise<Assignment> {
  const [role, at] = text.split(/@(.*)/s) as [string, string | undefined];
  standing.charter.role(role);
  if (at === undefined) return { role, anchor: { on: 'tenant' } };
  const [kind, id] = at.split(/:(.*)/s) as [string, string | undefined];
  if (id !== undefined) return { role, anchor: { on: 'record', kind, id } };
  const units = await standing.tenant.units();
  const unit = units.find((u) => u.id === at || u.name === at);
  if (!unit)
    throw new LintelError(
      'no-such-unit',
      `no unit "${at}"${didYouMean(
        at,
        units.flatMap((u) => [u.id, u.name]),
      )}`,
      {},
    );
  return { role, anchor: { on: 'unit', unitId: unit.id } };
}

const readRoles = (standing: ServerStanding, texts: readonly string[]) => Promise.all(texts.map((text) => readRole(standing, text)));
const roleWords = (label: string, { anchor, until, sources }: Held<Assignment>) =>
  `${label}${anchor.on === 'tenant' ? '' : ` at ${anchorWords(anchor)}`}${until ? ` until ${until.slice(0, 10)}` : ''}${sources ? ` (${sources.join(', ')})` : ''}`;

interface MemberOptions extends Acting {
  readonly roles?: string[] | true | undefined;
  readonly suspend?: true | undefined;
  readonly restore?: true | undefined;
  readonly remove?: true | undefined;
}

async function stepFor(standing: ServerStanding, user: string, options: MemberOptions): Promise<Step | undefined> {
  const steps: Step[] = [
    ...(options.roles === undefined
      ? []
      : [{ do: 'set-roles' as const, holder: { user }, roles: await readRoles(standing, options.roles === true ? [] : options.roles) }]),
    ...(options.suspend ? [{ do: 'suspend' as const, user }] : []),
    ...(options.restore ? [{ do: 'restore' as const, user }] : []),
    ...(options.remove ? [{ do: 'remove' as const, user }] : []),
  ];
  if (steps.length > 1) throw new LintelError('one-change', 'Give one of --roles, --suspend, --restore and --remove.', {});
  return steps[0];
}

async function changeMember(standing: ServerStanding, step: Step, options: Acting, around: Surroundings): Promise<number> {
  const proposal = await standing.propose([step], options.reason);
  const colours = pc.createColors(around.colours);
  const carries = proposal.problems.length === 0 && !options.dryRun;
  const json = (more: object = {}) => JSON.stringify({ ...proposal, ...more }, null, 2);
  // As data it is one answer: with what was done, where something was.
  if (options.format !== 'json' || !carries)
    around.out({ text: () => printProposal(proposal, colours), json, md: () => proposalMarkdown(proposal) }[options.format]());
  if (!carries) return proposal.problems.length > 0 ? EXIT.refused : EXIT.yes;
  const done = await standing.carryOut(proposal);
  around.err(`Done: ${done.map(({ what }) => what).join(', ')}.`);
  if (options.format === 'json') {
    around.out(json({ done }));
    return EXIT.yes;
  }
  // What is answered once, and to nobody else.
  for (const { secret } of done) if (secret !== undefined) around.out(secret);
  return EXIT.yes;
}

/** Everything that a member holds, with every path. */
async function oneMember(tenant: Tenant, user: string, format: Common['format'], around: Surroundings): Promise<number> {
  const standing = await tenant.standingOf(user);
  const { line, permissions } = standing.describe();
  if (format === 'text') around.out(`${standing.facts.me.name ?? user}: ${line}`);
  around.out(answer(around, format, { user, name: standing.facts.me.name, line, permissions }, HELD, heldRows(permissions, standing.charter)));
  return EXIT.yes;
}

async function membersCommand(person: string | undefined, options: MemberOptions, around: Surroundings): Promise<number> {
  return withDatabase(await readConfig(options, around.cwd), async (lintel) => {
    const tenant = await findTenant(lintel, options.tenant, person);
    if (person !== undefined) {
      const user = await findPerson(tenant, person);
      const changes = options.roles !== undefined || options.suspend || options.restore || options.remove;
      if (!changes) return oneMember(tenant, user, options.format, around);
      const actor = await actorOf(tenant, options);
      return changeMember(actor, (await stepFor(actor, user, options)) as Step, options, around);
    }
    const members = (await (await tenant.onlooker()).members.list()).filter(({ userId }) => userId !== ONLOOKER);
    const rows = members.map((m) => [m.name, m.address, m.roles.map((r) => roleWords(r.label, r)).join('\n') || 'no role', m.status]);
    around.out(answer(around, options.format, members, ['name', 'address', 'roles', ''], rows));
    return EXIT.yes;
  });
}

interface EnrolOptions extends Acting {
  readonly name?: string | undefined;
  readonly role?: string[] | undefined;
  readonly until?: string | undefined;
}

async function enrolCommand(address: string, options: EnrolOptions, around: Surroundings): Promise<number> {
  return withDatabase(ofOwn(await readConfig(options, around.cwd)), async (lintel) => {
    const actor = await actorOf(await findTenant(lintel, options.tenant), options);
    if (options.name === undefined) throw new LintelError('bad-name', 'Say what they are called: --name "Nora Fern".', {});
    const roles = await readRoles(actor, options.role ?? []);
    return changeMember(actor, { do: 'enrol', address, name: options.name, roles, ...(options.until && { memberUntil: options.until }) }, options, around);
  });
}

const holdersOf = ({ holders }: RoleView) =>
  holders.map(({ name, on, anchor, people, by }) => {
    const place = anchor.on === 'tenant' ? '' : ` at ${anchorWords(anchor)}`;
    return `${on === 'user' ? name : `${on} ${name} (${people})`}${place}${by ? `, by ${by}` : ''}`;
  });

async function rolesCommand(wanted: string | undefined, options: Common, around: Surroundings): Promise<number> {
  return withDatabase(await readConfig(options, around.cwd), async (lintel) => {
    const tenant = await findTenant(lintel, options.tenant);
    const roles = await rolesIn(tenant);
    if (wanted === undefined) {
      const rows = roles.map((r) => [r.id, r.label, r.own ? 'own' : 'charter', String(r.holders.reduce((n, { people }) => n + people, 0))]);
      around.out(answer(around, options.format, roles, ['role', 'name', 'from', 'people'], rows));
      return EXIT.yes;
    }
    const role = roles.find(({ id, label }) => id === wanted || label === wanted);
    if (!role)
      throw new LintelError(
        'unknown-role',
        `no role "${wanted}"${didYouMean(
          wanted,
          roles.flatMap(({ id, label }) => [id, label]),
        )}`,
        {},
      );
    const rows = [
      ['says', role.sentence ?? ''],
      ['includes', role.includes.join(', ')],
      [
        'may',
        Object.entries(role.may)
          .map(([permission, reaches]) => `${permission}: ${reaches.join(', ')}`)
          .join('\n'),
      ],
      ['gives', role.gives.join(', ')],
      ['held by', holdersOf(role).join('\n') || 'nobody'],
    ].filter(([, text]) => text !== '');
    around.out(answer(around, options.format, role, [role.id, role.label], rows as string[][]));
    return EXIT.yes;
  });
}

interface InviteOptions extends Acting {
  readonly role?: string[] | undefined;
  readonly file?: string | undefined;
  readonly until?: string | undefined;
}

/** Columns `address`, `name`, and `roles` parted by spaces. @throws LintelError `bad-file` with the line. */
async function readPeople(file: string): Promise<{ address: string; name?: string; roles?: string }[]> {
  try {
    const { parse } = await import('csv-parse/sync');
    const rows = parse(await readFile(file, 'utf8'), { columns: true, bom: true, trim: true, skip_empty_lines: true }) as Record<string, string>[];
    if (rows.length > 0 && rows[0]?.address === undefined)
      throw new Error('there is no column “address”; its first line names the columns: address, name, roles');
    return rows as { address: string }[];
  } catch (error) {
    throw new LintelError('bad-file', `${file} cannot be read: ${error instanceof Error ? error.message : String(error)}`, {}, { cause: error });
  }
}

class Undo extends Error {}

async function inviteCommand(addresses: readonly string[], options: InviteOptions, around: Surroundings): Promise<number> {
  return withDatabase(ofOwn(await readConfig(options, around.cwd)), async (lintel) => {
    const tenant = await findTenant(lintel, options.tenant);
    const actor = await actorOf(tenant, options);
    const rows = [...addresses.map((address) => ({ address })), ...(options.file ? await readPeople(resolve(around.cwd, options.file)) : [])];
    if (rows.length === 0) throw new LintelError('nobody', 'Give addresses, or --file with a column “address”.', {});
    const usual = options.role ?? [];
    const people: NewInvitation[] = [];
    for (const { address, ...row } of rows as { address: string; name?: string; roles?: string }[]) {
      const roles = await readRoles(actor, row.roles ? row.roles.split(/\s+/) : usual);
      people.push({ address, roles, ...(row.name && { name: row.name }), ...(options.until && { memberUntil: options.until }) });
    }
    const answers = await sendAll(lintel, actor, people, options, around);
    around.out(
      answer(
        around,
        options.format,
        answers,
        ['address', 'outcome', ''],
        answers.map((a) => [a.address, a.outcome, a.token ? `${a.words}\n${a.token}` : a.words]),
      ),
    );
    return answers.every(({ outcome }) => outcome === 'invited') ? EXIT.yes : EXIT.refused;
  });
}

const TOGETHER = 200;

/** Sends them in pieces with a bar for the eye; on a dry run all is undone again. */
async function sendAll(
  lintel: Tenant['lintel'],
  actor: ServerStanding,
  people: readonly NewInvitation[],
  options: Acting,
  around: Surroundings,
): Promise<InviteAnswer[]> {
  const { id: tenant } = actor.facts.tenant;
  const entry = { tenant, user: actor.userId as string, fulfilled: actor.facts.fulfilled };
  if (options.dryRun) {
    const tried: InviteAnswer[] = [];
    await lintel.db
      .transaction()
      .execute(async (tx) => {
        const inside = await lintel.within(tx).enter(entry);
        for (const part of inParts(people, TOGETHER)) tried.push(...(await inside.invitations.send(part)));
        throw new Undo();
      })
      .catch((error: unknown) => {
        if (!(error instanceof Undo)) throw error;
      });
    return tried.map(({ token: _, ...one }) => (one.outcome === 'invited' ? { ...one, words: 'would be invited; nothing was sent' } : one));
  }
  const bar = people.length > TOGETHER ? await barFor(around, 'inviting') : undefined;
  bar?.start(people.length, 0);
  const answers: InviteAnswer[] = [];
  try {
    for (const part of inParts(people, TOGETHER)) {
      answers.push(...(await actor.invitations.send(part)));
      bar?.update(answers.length);
    }
  } catch (error) {
    if (!isLintelError(error) || answers.length === 0) throw error;
    around.err(`lintel: ${error.message} The first ${answers.length} were dealt with.`);
  } finally {
    bar?.stop();
  }
  return answers;
}

/** How a change is made. */
export const acting = <C extends Command<any, any>>(command: C) =>
  command
    .option('--as <person>', 'in whose name; it goes on record, and their powers are the bounds')
    .option('--reason <text>', 'why, for the record')
    .option('--dry-run', 'show what it would do, and do nothing') as C;

/** `members`, `roles`, `enrol` and `invite`. */
export function addMembershipCommands(program: Command, around: Surroundings, answered: (code: number) => void): void {
  acting(
    withSources(
      program
        .command('members')
        .description('Who belongs to a tenant; one member with every way by which something comes to them; and changes, shown before they are made.'),
    ),
  )
    .argument('[person]', 'by id, address or name')
    .option('--roles [roles...]', 'replace their roles: keeper, warden@UNIT, inspector@KIND:ID; without any: none')
    .option('--suspend', 'all they hold stays and counts for nothing')
    .option('--restore', 'bring them back')
    .option('--remove', 'end their membership; their records stay')
    .addOption(formatOption())
    .addHelpText('after', '\nExamples:\n  lintel members --tenant alderbrook\n  lintel members tobias --roles keeper warden@orchards --as maren --dry-run')
    .action(async (person, options) => answered(await membersCommand(person, options as MemberOptions, around)));
  withSources(program.command('roles').description('The roles of a tenant, and who holds each by whatever way.'))
    .argument('[role]', 'by id or name')
    .addOption(formatOption())
    .addHelpText('after', '\nExample:\n  lintel roles keeper --tenant alderbrook')
    .action(async (role, options) => answered(await rolesCommand(role, options as Common, around)));
  acting(
    withSources(
      program
        .command('enrol')
        .description(
          'Makes somebody a member at once, with an account that the organisation keeps. The way in is printed once, to hand over; it counts for seven days.',
        ),
    ),
  )
    .argument('<address>')
    .option('--name <name>', 'what they are called')
    .option('--role <roles...>', 'what they will hold: keeper, warden@UNIT')
    .addOption(new Option('--until <moment>', 'when the membership ends by itself, ISO 8601'))
    .addOption(formatOption())
    .addHelpText('after', '\nExample:\n  lintel enrol bram@oakley.example --name "Bram Oakley" --role keeper --as maren --tenant alderbrook --dry-run')
    .action(async (address, options) => answered(await enrolCommand(address as string, options as EnrolOptions, around)));
  acting(withSources(program.command('invite').description('Invites people by address. What is wrong with one does not keep the others back.')))
    .argument('[addresses...]')
    .option('--role <roles...>', 'what they will hold: keeper, warden@UNIT')
    .option('--file <file>', 'a CSV with the columns address, name, roles (parted by spaces)')
    .addOption(new Option('--until <moment>', 'when the membership ends by itself, ISO 8601'))
    .addOption(formatOption())
    .addHelpText('after', '\nExample:\n  lintel invite --file people.csv --role keeper --as maren --tenant alderbrook --dry-run')
    .action(async (addresses, options) => answered(await inviteCommand(addresses as string[], options as InviteOptions, around)));
}
