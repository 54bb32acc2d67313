import { type Command, Option } from '@commander-js/extra-typings';

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

export const formatOption = () => new Option('--format <format>', 'how to write the answer').choices(['text', 'json', 'md'] as const).default('text' as const);

export function withSources(command: Command): Command<[], { config?: string; charter?: string; database?: string; tenant?: string }> {
  return command
    .option('--config <file>', 'the configuration; default: lintel.config.ts here or above')
    .option('--charter <file>', 'a charter as JSON or as a module, instead of a configuration')
    .option('--database <url>', 'a PostgreSQL to look at, instead of the configured one')
    .option('--tenant <tenant>', 'the tenant, by id or name');
}
