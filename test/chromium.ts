import { execFileSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { AxeBuilder } from '@axe-core/playwright';
import { type Browser, chromium, type Page } from 'playwright-core';

const PLACES = ['/usr/bin/chromium', '/usr/bin/chromium-browser', '/usr/bin/google-chrome'];

/** The path of a Chromium; on Debian as root it is installed when it is missing. */
export function findChromium(): string {
  const wanted = process.env.CHROMIUM_PATH;
  const found = [...(wanted ? [wanted] : []), ...PLACES].find((path) => existsSync(path));
  if (found) return found;
  if (process.getuid?.() === 0 && existsSync('/usr/bin/apt-get')) {
    execFileSync('apt-get', ['update'], { stdio: 'ignore' });
    execFileSync('apt-get', ['install', '-y', 'chromium'], { stdio: 'ignore', env: { ...process.env, DEBIAN_FRONTEND: 'noninteractive' } });
    if (existsSync('/usr/bin/chromium')) return '/usr/bin/chromium';
  }
  throw new Error('The browser tests need Chromium: install the package chromium, or set CHROMIUM_PATH to one.');
}

export function launch(): Promise<Browser> {
  return chromium.launch({
    executablePath: findChromium(),
    headless: true,
    args: ['--no-sandbox', '--disable-gpu', '--disable-background-networking', '--no-first-run'],
  });
}

/** What axe finds on a page. */
export async function axe(page: Page) {
  // The other mode opens a second page each time, for frames of other origins: there are none.
  const { violations } = await new AxeBuilder({ page }).setLegacyMode(true).analyze();
  return violations;
}
