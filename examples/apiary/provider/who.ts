import type { IncomingMessage } from 'node:http';

/** Whom a provider knows, and what it says of them. */
export interface Listed {
  name: string;
  email: string;
  associations: string[];
  groups: string[];
  site?: string;
}

export const escaped = (text: string) => text.replace(/[&<>"]/g, (one) => `&#${one.charCodeAt(0)};`);

/** The page on which somebody says who they are. */
export function whoPage(title: string, people: Readonly<Record<string, Listed>>): string {
  const buttons = Object.entries(people).map(
    ([id, { name, groups }]) => `<li><button name="who" value="${escaped(id)}">${escaped(name)}</button> <small>${escaped(groups.join(', '))}</small></li>`,
  );
  return `<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>${title}</title>
<style>body{font:1.1rem/1.6 system-ui,sans-serif;max-width:34rem;margin:12vh auto;padding:0 1.5rem;color:#1d2b3a;background:#f2f6fa}
main{background:#fff;border-top:4px solid #2b5d8c;padding:1.5rem 2rem}h1{margin-top:0}ul{list-style:none;padding:0}li{margin:.6rem 0}
button{font:inherit;padding:.35rem .9rem;border:1px solid #2b5d8c;background:#fff;color:#1a4a75;cursor:pointer}small{color:#55606b}</style>
<main><h1>${title}</h1><p>Who are you? All of them are made up, and nobody is asked for a password.</p><form method="post"><ul>${buttons.join('')}</ul></form></main></html>`;
}

export async function textOf(request: IncomingMessage): Promise<string> {
  const parts: Buffer[] = [];
  for await (const part of request) parts.push(part as Buffer);
  return Buffer.concat(parts).toString('utf8');
}
