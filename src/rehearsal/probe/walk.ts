import type { Charter } from '../../charter/index.js';
import type { Answers, Tell } from './answers.js';
import type { Player } from './cast.js';
import type { Knowledge } from './judge.js';
import type { Turn } from './outdated.js';
import type { Difference, Picture } from './picture.js';
import type { Route } from './routes.js';
import type { Answer, Asked } from './send.js';
import type { Tries } from './tries.js';

/** As whom, for which tenant, and by which route something is asked. */
export interface At {
  readonly route: Route;
  readonly player: Player;
  readonly tenant: string;
  /** It is of the wrong form on purpose: whether it is answered says nothing of who is let in. */
  readonly uncounted?: true;
}

/** What every sort of try works with. */
export interface Walk {
  readonly charter: Charter<any>;
  readonly players: readonly Player[];
  readonly picture: Picture;
  readonly tries: Tries;
  readonly answers: Answers;
  readonly tell: Tell;
  knowledgeOf(player: Player): Knowledge;
  /** Sends a request, and counts it. */
  call(at: At, path: string, more?: Asked): Promise<Answer>;
  /** Sends one that is only to be answered, and looks at what comes back. */
  ask(at: At, path: string, more?: Asked): Promise<Answer>;
  /** Sends one that may change something, looks at what it changed, and puts that back. */
  change(at: At, path: string, more?: Asked): Promise<Answer>;
  /** Looks at what a request changed, and puts that back. @param turn what happened before to whoever sent it. */
  putBack(at: At, answer: Answer, turn?: Turn): Promise<void>;
  /** What is otherwise since it was looked at last, which is put back; what a request goes on to write after its answer too. @param seen is told before that is put back. */
  settle(what: string, seen: (changed: readonly Difference[]) => void): Promise<void>;
  /** Works with the database as it is now, and as what it is to be put back to; as somebody with the session of another. */
  asThingsAre(now: Player, before: Player, work: (picture: Picture, knowledge: Knowledge) => Promise<void>): Promise<void>;
  /** Does the same with each, several at a time: for what only reads. What is found is put down in their order. */
  each<T>(items: readonly T[], work: (item: T) => Promise<void>): Promise<void>;
  /**
   * Tries many things at once; where that finds something that was not known, each by itself, so that what is told is the smallest request.
   *
   * @param attempt tries these together.
   */
  together<T>(parts: readonly T[], attempt: (parts: readonly T[]) => Promise<void>): Promise<void>;
}

/** What is asked for in an address, behind the path. */
export function withQuery(path: string, query: Iterable<readonly [string, string]>): string {
  const asked = new URLSearchParams([...query].map(([name, value]) => [name, value])).toString();
  return asked === '' ? path : `${path}${path.includes('?') ? '&' : '?'}${asked}`;
}
