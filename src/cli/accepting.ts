/** A finding, with the reason for which it is meant so. */
export type Judged<F> = F & { readonly accepted?: string };

/** By what a finding is accepted: its code and its place. */
export const nameOf = (code: string, place: string): string => `${code} ${place}`;

/** The place of something that the probe found: its route, and what on it. */
export const placeOf = ({ route, about }: { readonly route: string; readonly about: string }): string => (about === '' ? route : `${route} ${about}`);

/** Findings with what the configuration accepts of them, and why. */
export function judged<F extends { readonly code: string }>(
  findings: readonly F[],
  accepted: Readonly<Record<string, string>> = {},
  placeOf: (finding: F) => string,
): Judged<F>[] {
  return findings.map((one) => {
    const reason = accepted[nameOf(one.code, placeOf(one))];
    return { ...one, ...(reason !== undefined && { accepted: reason }) };
  });
}

/** Those that nobody accepted. */
export const open = <F extends { readonly accepted?: string }>(findings: readonly F[]): F[] => findings.filter(({ accepted }) => accepted === undefined);
