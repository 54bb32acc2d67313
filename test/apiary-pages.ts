import { type Browser, chromium, type Page } from 'playwright-core';
import { expect, inject } from 'vitest';
import { DEMO_PASSWORD, type Demo, startDemo } from '../examples/apiary/server/main.js';

/** The example, served, with a browser to look at it. */
export interface Pages {
  readonly demo: Demo;
  readonly browser: Browser;
  readonly base: string;
  /** A browser of somebody's own: no cookie of anybody else. */
  newcomer(width?: number): Promise<Page>;
  signIn(page: Page, address: string): Promise<void>;
  /** A page of somebody who has signed in. */
  as(name: string, width?: number): Promise<Page>;
  /** Waits for the message with such a link in the tray, and follows it. */
  followLetter(page: Page, to: string, link: RegExp, subject?: string): Promise<void>;
  /** Closes the browsers of all who came: a page that nobody looks at any more goes on. */
  leave(): Promise<void>;
  close(): Promise<void>;
}

export async function openApiary(options: Partial<Parameters<typeof startDemo>[0]> = {}): Promise<Pages> {
  const [demo, browser] = await Promise.all([startDemo({ port: 0, ...options }), chromium.connect(inject('chromium'))]);
  const base = `http://localhost:${demo.port}`;
  const pages: Pages = {
    demo,
    browser,
    base,
    async newcomer(width = 1280) {
      const page = await (await browser.newContext({ viewport: { width, height: 800 }, reducedMotion: 'reduce' })).newPage();
      page.setDefaultTimeout(10_000);
      return page;
    },
    async signIn(page, address) {
      const data = { address, password: DEMO_PASSWORD };
      const answer = await page.request.post(`${base}/lintel/account/sign-in`, { data, headers: { origin: base } });
      if (!answer.ok()) throw new Error(`${address} is not let in: ${await answer.text()}`);
      await page.goto(base);
      // Where there is no room for it, the way out is in the menu.
      await page.getByRole('button', { name: /^(Sign out|Menu)$/ }).waitFor();
    },
    async as(name, width) {
      const page = await pages.newcomer(width);
      await pages.signIn(page, `${name}@alderbrook.example`);
      return page;
    },
    async followLetter(page, to, link, subject) {
      await page.goto(`${base}/mail`);
      // Somebody else's of the same kind may lie there already.
      const found = page
        .getByRole('article')
        .filter({ hasText: `to ${to}` })
        .getByRole('link', { name: link });
      await expect
        .poll(async () => {
          await page.getByRole('button', { name: 'Look again' }).click();
          return found.count();
        })
        .toBeGreaterThan(0);
      if (subject !== undefined) await page.getByRole('heading', { level: 2, name: subject }).waitFor();
      await found.first().click();
    },
    async leave() {
      await Promise.all(browser.contexts().map((one) => one.close()));
    },
    async close() {
      await browser.close();
      await demo.close();
    },
  };
  return pages;
}
