import { defineConfig } from 'tsdown';

export default defineConfig({
  entry: {
    index: 'src/index.ts',
    'server/index': 'src/server/index.ts',
    'mail/index': 'src/mail/index.ts',
    'accounts/index': 'src/accounts/index.ts',
    'http/index': 'src/http/index.ts',
    'rehearsal/index': 'src/rehearsal/index.ts',
    'react/index': 'src/react/index.tsx',
    'cli/index': 'src/cli/index.ts',
    'cli/bin': 'src/cli/bin.ts',
  },
  format: 'esm',
  platform: 'neutral',
  target: 'es2022',
  dts: true,
  fixedExtension: false,
  external: [/^node:/, /^[a-z@]/],
});
