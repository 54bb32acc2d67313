import process from 'node:process';
import { people } from '../world/seed.js';
import { DEMO_PASSWORD, startDemo } from './main.js';

const port = Number(process.env.PORT ?? 4173);
try {
  if (!Number.isInteger(port) || port < 0 || port > 65535) throw new Error(`PORT is "${process.env.PORT}"; it must be a number from 0 to 65535`);
  const demo = await startDemo({ port, databaseUrl: process.env.LINTEL_DATABASE_URL, say: (line) => console.log(line) });
  console.log(`\n  The apiary is open:  http://localhost:${demo.port}\n\n  Everybody's password is ${DEMO_PASSWORD}. You can be`);
  for (const { address, note } of people) console.log(`    ${address.padEnd(30)} ${note}`);
  console.log('\n  Mail arrives in the tray:  /mail   ·   Stop with Ctrl+C; nothing is kept.\n');
} catch (error) {
  const taken = (error as { code?: string }).code === 'EADDRINUSE';
  console.error(
    taken
      ? `The port ${port} is taken; give another one: PORT=${port + 1} npm run demo`
      : `The demo could not start: ${error instanceof Error ? error.message : String(error)}`,
  );
  process.exit(1);
}
