/** A finding, with the reason for which it is meant so. */
export type Judged<F> = F & { readonly accepted?: string };

/** Findings with what the configuration accepts of them: the code and the place, and why. */
export function judged<F extends { readonly code: string }>(
  findings: readonly F[],
  accepted: Readonly<Record<string, string>> = {},
  placeOf: (finding: F) => string,
): Judged<F>[] {
  return findings.map((one) => {
    const reason = accepted[`${one.code} ${placeOf(one)}`];
    return { ...one, ...(reason !== undefined && { accepted: reason }) };
  });
}

/** Those that nobody accepted. */
export const open = <F extends { readonly accepted?: string }>(findings: readonly F[]): F[] => findings.filter(({ accepted }) => accepted === undefined);
