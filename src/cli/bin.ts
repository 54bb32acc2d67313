#!/usr/bin/env node
import process from 'node:process';
import pc from 'picocolors';
import { run } from './program.js';

// A reader that has seen enough closes the pipe: that is no failure.
process.stdout.on('error', (error: { code?: string }) => {
  if (error.code !== 'EPIPE') throw error;
  process.exit(0);
});

const code = await run(process.argv.slice(2), {
  cwd: process.cwd(),
  out: (text) => process.stdout.write(`${text}\n`),
  err: (text) => process.stderr.write(`${text}\n`),
  width: process.stdout.columns ?? 160,
  interactive: process.stderr.isTTY === true,
  stopped: () => Promise.race((['SIGINT', 'SIGTERM'] as const).map((signal) => new Promise((resolve) => process.once(signal, resolve)))),
  colours: pc.isColorSupported && process.stdout.isTTY === true,
});
// Once everything is written, nothing is waited for: a database in memory would wind down for a while.
process.stdout.write('', () => process.stderr.write('', () => process.exit(code)));
