/** What the desk is about, as the page is told at first. */
export interface About {
  readonly tenants: readonly { readonly id: string; readonly name: string }[];
  readonly permissions: readonly { readonly name: string; readonly label: string; readonly section: string; readonly kind: string | null }[];
  readonly kinds: readonly { readonly name: string; readonly one: string; readonly many: string }[];
  readonly roles: readonly { readonly id: string; readonly label: string }[];
  /** What there is to be looked at; `membership`: one that is kept here, and can be changed. */
  readonly has: { readonly changes: boolean; readonly rehearsal: boolean; readonly probe: boolean; readonly membership: boolean };
}

export interface Person {
  readonly id: string;
  readonly name: string;
}
