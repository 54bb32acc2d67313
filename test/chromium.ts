import { execFileSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { AxeBuilder } from '@axe-core/playwright';
import { type Browser, type BrowserServer, chromium, type Page } from 'playwright-core';

// Without windows it is the same browser with half of the processes.
const PLACES = ['/usr/bin/chromium-headless-shell', '/usr/bin/chromium', '/usr/bin/chromium-browser', '/usr/bin/google-chrome'];
const ARGUMENTS = ['--no-sandbox', '--disable-gpu', '--disable-background-networking', '--no-first-run'];

/** The path of a Chromium; on Debian as root it is installed when it is missing. */
export function findChromium(): string {
  const wanted = process.env.CHROMIUM_PATH;
  const found = [...(wanted ? [wanted] : []), ...PLACES].find((path) => existsSync(path));
  if (found) return found;
  if (process.getuid?.() === 0 && existsSync('/usr/bin/apt-get')) {
    execFileSync('apt-get', ['update'], { stdio: 'ignore' });
    execFileSync('apt-get', ['install', '-y', 'chromium-headless-shell'], { stdio: 'ignore', env: { ...process.env, DEBIAN_FRONTEND: 'noninteractive' } });
    if (existsSync(PLACES[0] as string)) return PLACES[0] as string;
  }
  throw new Error('The browser tests need Chromium: install the package chromium, or set CHROMIUM_PATH to one.');
}

const options = () => ({ executablePath: findChromium(), headless: true, args: ARGUMENTS });

export const launch = (): Promise<Browser> => chromium.launch(options());

/** One browser for all who connect to its address. */
export const serveBrowser = (): Promise<BrowserServer> => chromium.launchServer(options());

/** What axe finds on a page. */
export async function axe(page: Page) {
  // The other mode opens a second page each time, for frames of other origins: there are none.
  const { violations } = await new AxeBuilder({ page }).setLegacyMode(true).analyze();
  return violations;
}
