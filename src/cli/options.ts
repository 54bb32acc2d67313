import { type Command, Option } from '@commander-js/extra-typings';

export const formatOption = () => new Option('--format <format>', 'how to write the answer').choices(['text', 'json', 'md'] as const).default('text' as const);

export function withSources(command: Command): Command<[], { config?: string; charter?: string; database?: string; tenant?: string }> {
  return command
    .option('--config <file>', 'the configuration; default: lintel.config.ts here or above')
    .option('--charter <file>', 'a charter as JSON or as a module, instead of a configuration')
    .option('--database <url>', 'a PostgreSQL to look at, instead of the configured one')
    .option('--tenant <tenant>', 'the tenant, by id or name');
}
