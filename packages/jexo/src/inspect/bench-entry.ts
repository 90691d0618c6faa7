/** The tokens that open the page: each works once, and a new one ends the one before. */
export interface BenchEntry {
  /** A new token. */
  renew(): string;
  /** True for the token of the last `renew`, the first time. */
  spend(token: unknown): boolean;
}

/** @param random makes a token that nobody can guess */
export function createBenchEntry(random: () => string): BenchEntry {
  let token: string | undefined;
  return {
    renew: () => (token = random()),
    spend(given) {
      if (token === undefined || given !== token) return false;
      token = undefined;
      return true;
    },
  };
}
