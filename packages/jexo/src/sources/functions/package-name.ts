/** True for a package as an import names it, with or without a path inside: `mathly`, `@alderwick/dates/days`. */
export function isPackageName(name: string): boolean {
  return /^(?:@[\w.-]+\/)?[A-Za-z_][\w.-]*(?:\/[\w.-]+)*$/.test(name) && !/\.[cm]?[jt]sx?$/.test(name);
}
