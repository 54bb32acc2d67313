/** What answers requests. */
interface Answers {
  readonly fetch: (request: Request) => Promise<Response>;
}

/** A browser at an application that signs people in by their providers: it keeps cookies, and follows nothing by itself. */
export function browserAt(origin: string, { pages, face }: { readonly pages: Answers; readonly face: Answers }, way: string) {
  const jar = new Map<string, string>();
  const ask = async (path: string, init: RequestInit = {}) => {
    const url = new URL(path, origin);
    const cookie = [...jar].map(([name, value]) => `${name}=${value}`).join('; ');
    const to = url.pathname.startsWith('/sign-on') ? pages : face;
    const response = await to.fetch(new Request(url, { ...init, headers: { ...(init.headers as object), ...(cookie && { cookie }) } }));
    for (const one of response.headers.getSetCookie()) {
      const [, name = '', value = ''] = /^([^=]+)=([^;]*)/.exec(one) ?? [];
      if (value === '') jar.delete(name);
      else jar.set(name, value);
    }
    return response;
  };
  const outcomeOf = async (response: Response) => {
    const words = /<p>(.*?)<\/p>/.exec(await response.text())?.[1];
    return response.status === 303 ? `to ${response.headers.get('location')}` : `${response.status} ${words}`;
  };
  return {
    jar,
    ask,
    /** Leaves for the provider: where the browser is sent. */
    leave: async (path = way) => {
      const response = await ask(path);
      if (response.status !== 303) throw new Error(await outcomeOf(response));
      return response.headers.get('location') as string;
    },
    back: async (url: string) => outcomeOf(await ask(url)),
    /** Comes back with a form of the provider's. */
    post: async (form: Readonly<Record<string, string>>) =>
      outcomeOf(await ask(`${way}/back`, { method: 'POST', body: new URLSearchParams(form), headers: { origin: 'https://elsewhere.example' } })),
    me: async () => ((await (await ask('/account')).json()) as any).account,
  };
}
