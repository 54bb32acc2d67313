import type { Change } from '../change/index.js';
import type { Giver } from '../held/index.js';
import { attributeSteps, goThrough, groupSteps, holderSteps, peopleOf, unitSteps } from '../steps/index.js';
import type { Done, Gives, Step } from '../terms/index.js';

const HANDLERS = { ...groupSteps, ...unitSteps, ...holderSteps, ...attributeSteps };

/** The part of something given that is not empty. */
export function onlyGives({ groups = [], units = [], permissions = [], attributes = {} }: Gives): Gives {
  return {
    ...(groups.length > 0 && { groups: [...new Set(groups)] }),
    ...(units.length > 0 && { units: [...new Set(units)] }),
    ...(permissions.length > 0 && { permissions }),
    ...(Object.keys(attributes).length > 0 && { attributes }),
  };
}

/**
 * Gives somebody who has come in what they get besides roles: by the steps by which people give it, of whoever gives it, so that it takes what these take.
 *
 * @param by who gives it, as they stand now.
 * @throws LintelError what the steps refuse.
 */
export async function giveMore(
  change: Change,
  by: Giver,
  user: string,
  { groups = [], units = [], permissions = [], attributes }: Gives,
): Promise<readonly Done[]> {
  const steps: Step[] = [];
  for (const id of groups) steps.push({ do: 'set-group', id, people: [...(await peopleOf(change, id)), user] });
  if (units.length > 0) steps.push({ do: 'place', user, units });
  if (permissions.length > 0) steps.push({ do: 'set-permissions', holder: { user }, permissions });
  if (attributes) steps.push({ do: 'set-attributes', user, attributes });
  if (steps.length === 0) return [];
  return (await goThrough({ ...change, giver: by, actor: by.now }, steps, HANDLERS)).done;
}
