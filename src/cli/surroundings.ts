/** What a command touches of its surroundings. */
export interface Surroundings {
  readonly cwd: string;
  readonly out: (text: string) => void;
  readonly err: (text: string) => void;
  readonly colours: boolean;
  /** Columns of the terminal. */
  readonly width: number;
  /** Resolves when what goes on until it is stopped is to end. */
  readonly stopped?: () => Promise<unknown>;
  /** True where somebody watches: only then a bar is drawn. */
  readonly interactive?: boolean;
}

/** Exit codes, the same for every command. */
export const EXIT = { yes: 0, refused: 1, failed: 2 } as const;
