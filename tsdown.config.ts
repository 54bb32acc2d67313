import { defineConfig } from 'tsdown';

export default defineConfig({
  entry: ['src/index.ts', 'src/{server,mail,accounts,http,rehearsal,cli,vitest}/index.ts', 'src/react/index.tsx', 'src/cli/bin.ts'],
  // File by file, so that the published code reads like the source.
  unbundle: true,
  root: 'src',
  format: 'esm',
  platform: 'neutral',
  target: 'es2022',
  dts: true,
  fixedExtension: false,
  external: [/^node:/, /^[a-z@]/],
});
