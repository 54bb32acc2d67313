/* The whole way through, in the terminal: run it with `npm run tour`. Each step must hold, or it stops with an error. */
import { strict as assert } from 'node:assert';
import { PGlite } from '@electric-sql/pglite';
import { isLintelError } from 'warm-lintel';
import { smtpMailer, startTray } from 'warm-lintel/mail';
import { accessTable, explain, peopleSubjects, printExplanation, printTable } from 'warm-lintel/rehearsal';
import { connect, createLintel } from 'warm-lintel/server';
import { charter } from '../apiary/world/charter.js';
import { type ApiaryTables, makeTables } from '../apiary/world/tables.js';

const step = (text: string) => console.log(`\n— ${text}`);
console.log('Starting an embedded database, which takes a few seconds ...');
const db = connect<ApiaryTables>(new PGlite());
const tray = await startTray();
const mailer = smtpMailer({ host: '127.0.0.1', port: tray.port, from: { name: 'Apiary', address: 'post@apiary.example' } });
const lintel = createLintel({ charter, db, mailer, invitationLink: (token) => `http://apiary.example/invitation#${token}` });
await makeTables(db);
await lintel.prepare();

step('Anna signs up and opens an organisation, of which she is the keyholder.');
const anna = await lintel.addPerson({ id: 'anna', name: 'Anna Dorn', address: 'anna@ferncombe.example' });
const tenant = await lintel.openTenant({ name: 'Ferncombe Bees', keyholder: anna, contact: 'Anna Dorn' });
const annas = await lintel.enter({ tenant, user: anna });

step('She adds two hives, and invites Bent as a keeper, over SMTP.');
await annas
  .scope<ApiaryTables>()
  .insertInto('hives')
  .values([
    { id: 'hive-1', name: 'Birch hive' },
    { id: 'hive-2', name: 'Alder hive' },
  ] as never)
  .execute();
const [answer] = await annas.invitations.send([{ address: 'bent@ferncombe.example', roles: [{ role: 'keeper', anchor: { on: 'tenant' } }] }]);
assert.equal(answer?.outcome, 'invited');
await lintel.deliver();
console.log(`  In the tray: “${tray.messages[0]?.subject}”, to ${tray.messages[0]?.to}`);

step('Bent follows the link in the message, and is a member. The link works once.');
const token = /#(\S+)/.exec(tray.messages[0]?.text ?? '')?.[1] ?? '';
const bent = await lintel.addPerson({ id: 'bent', name: 'Bent Ravn', address: 'bent@ferncombe.example' });
await lintel.acceptInvitation(bent, { token });
await assert.rejects(lintel.acceptInvitation(bent, { token }), (error) => isLintelError(error, 'invitation-used'));
const bents = await lintel.enter({ tenant, user: bent });
await bents
  .scope<ApiaryTables>()
  .insertInto('hives')
  .values({ id: 'hive-3', name: 'Cedar hive' } as never)
  .execute();

step('A neighbour has an organisation of their own. Each person lists hives, by the same query.');
const nora = await lintel.addPerson({ id: 'nora', name: 'Nora Fell', address: 'nora@fell.example' });
const noras = await lintel.enter({ tenant: await lintel.openTenant({ name: 'Fell Bees', keyholder: nora }), user: nora });
await noras
  .scope<ApiaryTables>()
  .insertInto('hives')
  .values({ id: 'hive-9', name: 'Stone hive' } as never)
  .execute();
const seen = async (who: typeof bents) => (await who.find('hive', { order: 'name' })).map((hive) => hive.name).join(', ');
console.log(`  Anna: ${await seen(annas)}\n  Bent: ${await seen(bents)}\n  Nora: ${await seen(noras)}`);
assert.deepEqual([await seen(bents), await seen(noras)], ['Alder hive, Birch hive, Cedar hive', 'Stone hive']);

step('Bent guesses the id of Nora’s hive. It does not exist for him.');
await assert.rejects(bents.findOne('hive', 'hive-9'), (error) => isLintelError(error, 'not-found') && console.log(`  ${error.message}`) === undefined);

step('Who may do what, without signing in as anybody:\n');
console.log(printTable(await accessTable(charter, 'people', peopleSubjects([annas, bents]), { tenant: annas.facts.tenant, db, only: ['hive'] })));

step('And why may Bent not change Anna’s hive?\n');
console.log(
  printExplanation(
    explain(bents, await bents.decideById('hive.update', 'hive-1'), { kind: 'hive', id: 'hive-1' }, { keyholders: [{ id: anna, name: 'Anna Dorn' }] }),
  ),
);
await tray.close();
process.exit(0);
