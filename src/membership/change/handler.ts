import type { Done, Step, StepOf, Touched } from '../terms/index.js';
import type { Change } from './change.js';

/** How one kind of step is done. It checks what it is given and who asks; what it opens to whom is looked at for all steps alike. */
export interface Handler<D extends Step['do']> {
  /** The operation that the actor needs; absent where it takes none. */
  readonly needs: (step: StepOf<D>, by: Pick<Change, 'actor'>) => string | undefined;
  readonly touches: (step: StepOf<D>, change: Change) => Touched;
  readonly run: (change: Change, step: StepOf<D>) => Promise<Done>;
}
export type Handlers<D extends Step['do']> = { readonly [d in D]: Handler<d> };
