import { defineConfig, type UserConfig } from 'tsdown';

const shared: UserConfig = {
  entry: ['src/index.ts', 'src/{server,mail,accounts,http,rehearsal,cli,vitest}/index.ts', 'src/react/index.tsx', 'src/cli/bin.ts'],
  root: 'src',
  format: 'esm',
  platform: 'neutral',
  target: 'es2022',
  fixedExtension: false,
  external: [/^node:/, /^[a-z@]/],
};

export default defineConfig([
  // What runs is bundled, with what several entries use in files of its own: a command that loads a hundred files less answers sooner.
  { ...shared, dts: false },
  // Declarations are made file by file: bundled, those of entries that are all called index overwrite each other.
  { ...shared, unbundle: true, dts: { emitDtsOnly: true }, clean: false },
]);
