/** Words whose digits belong to them: `sha256Of` is `sha256_of`, while `mitesPer100` is `mites_per_100`. */
const keepsItsDigits = /^(?:utf|base|sha|md|ipv|http|oauth|mp|v|s|x|h|k)\d+[a-z]?$/i;

/** `mixSyrup` becomes `mix_syrup`, `parseURL` becomes `parse_url`. */
export function snakeCase(name: string): string {
  return name
    .replaceAll(/([a-z0-9])([A-Z])/g, '$1_$2')
    .replaceAll(/([A-Z]+)([A-Z][a-z])/g, '$1_$2')
    .split(/[_\s$-]+/)
    .filter((word) => word !== '')
    .map((word) => (keepsItsDigits.test(word) ? word : word.replace(/([a-z])(\d+)$/i, '$1_$2')))
    .join('_')
    .toLowerCase();
}
