import { type Setting, takenBack } from '../../terms/index.js';
import { takeMembers } from './members.js';
import { takePeople } from './people.js';
import { Taking, TOGETHER } from './taking.js';
import { openAll, takeTenants } from './tenants.js';
import type { Each, Intake, IntakeOptions, IntakeReport } from './terms.js';

export type { Intake, IntakeCount, IntakeMember, IntakeOptions, IntakePerson, IntakeRefusal, IntakeReport, IntakeTenant } from './terms.js';

async function* partsOf<T>(all: Each<T> = []): AsyncGenerator<T[]> {
  let part: T[] = [];
  for await (const one of all) {
    part.push(one);
    if (part.length < TOGETHER) continue;
    yield part;
    part = [];
  }
  if (part.length > 0) yield part;
}

async function takeAll(taking: Taking, { people, tenants, members }: Intake): Promise<IntakeReport> {
  for await (const part of partsOf(people)) await taking.each((tx) => takePeople(taking, tx, part));
  for await (const part of partsOf(tenants)) await taking.each((tx) => takeTenants(taking, tx, part));
  for await (const part of partsOf(members)) await taking.each((tx) => takeMembers(taking, tx, part));
  await openAll(taking);
  return taking.report;
}

/**
 * Takes in what an application has already, in parts of 1000, each one transaction: people, tenants, members, under the application's own ids. Again with the same it does nothing; with
 * other things it brings the difference to what it brought last, where nobody has changed that here meanwhile. Somebody who was removed here is not brought again.
 */
export async function intake(setting: Setting, what: Intake, options: IntakeOptions = {}): Promise<IntakeReport> {
  if (!options.dryRun) return takeAll(new Taking(setting, options), what);
  return takenBack(setting.db, (tx) => takeAll(new Taking({ ...setting, db: tx }, options), what));
}
