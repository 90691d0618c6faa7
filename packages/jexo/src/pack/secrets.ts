import { existsSync, readdirSync, readFileSync, statSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { JexoError } from '../errors.js';
import { isSecretSetting } from '../protocol/secret-names.js';
import { isCarried } from './artefact.js';

/** Where a secret stands in something that would be packed. */
export interface FoundSecret {
  /** File and line. */
  readonly where: string;
  /** What it is, without showing it. */
  readonly what: string;
}

const patterns: readonly (readonly [what: string, pattern: RegExp])[] = [
  ['a private key', /-----BEGIN (?:[A-Z]+ )*PRIVATE KEY-----/],
  ['a key of a server', /\bjexo_[0-9a-z]{10}_[\w-]{43}/],
  ['a token', /\b(?:gh[pousr]_[A-Za-z0-9]{30,}|glpat-[\w-]{20,}|xox[abprs]-[\w-]{20,}|sk-[\w-]{24,}|npm_[A-Za-z0-9]{36}|AIza[\w-]{35})/],
  ['an access key', /\b(?:AKIA|ASIA)[A-Z0-9]{16}\b/],
  ['a signed token', /\beyJ[\w-]{10,}\.eyJ[\w-]{10,}\.[\w-]{10,}/],
  ['a URL with a password', /\b[a-z][a-z0-9+.-]{1,20}:\/\/[^\s/:@'"`]+:(?!\$\{|<|\*{3})[^\s/@'"`]{3,}@[\w.[-]/i],
  [
    'a secret written down',
    /\b\w*(?:password|passwd|secret|api[_-]?key|access[_-]?token|auth[_-]?token)["']?\s*[:=]\s*["'](?!\$|<|\{|process|env)[^"'\s]{8,}["']/i,
  ],
];
/** Files that hold secrets by their nature. */
const secretFiles =
  /(?:^|[\\/])(?:\.env(?:\..*)?|id_(?:rsa|ed25519|ecdsa)|.*\.(?:pem|key|p12|pfx|jks)|credentials|\.npmrc|\.netrc|keys\.json)$/i;
/** Files that have been said to hold placeholders. */
const isExample = /\.(?:example|sample|template)$/i;
const mostBytes = 5_000_000;
const shortest = 8;

/**
 * Looks for secrets in what would be packed: the project's own files, folders that are copied, and the code itself, where the values of
 * `.env` files beside those may have ended up.
 */
export function findSecrets(inputs: readonly string[], copied: readonly string[], code: string): readonly FoundSecret[] {
  const files = [...inputs, ...copied.flatMap(filesBelow)];
  const shown = (file: string) => relative(process.cwd(), file) || file;
  const found = files.flatMap((file): FoundSecret[] => {
    const base = shown(file);
    if (secretFiles.test(file) && !isExample.test(file)) return [{ where: base, what: 'a file of secrets' }];
    if (!existsSync(file) || statSync(file).size > mostBytes) return [];
    const lines = readFileSync(file, 'latin1').split('\n');
    return lines.flatMap((line, index) => {
      const [what] = patterns.find(([, pattern]) => pattern.test(line)) ?? [];
      return what === undefined ? [] : [{ where: `${base}:${index + 1}`, what }];
    });
  });
  return [...found, ...fromEnvironment(new Set([process.cwd(), ...inputs.map((file) => dirname(file))]), code, shown)];
}

/** Values of `.env` files that stand in the code: something has read them while it was packed. */
function fromEnvironment(folders: ReadonlySet<string>, code: string, shown: (file: string) => string): FoundSecret[] {
  return [...folders].flatMap((folder) => {
    const file = join(folder, '.env');
    if (!existsSync(file)) return [];
    return readFileSync(file, 'utf8')
      .split('\n')
      .flatMap((line, index): FoundSecret[] => {
        const [, name = '', value = ''] = /^\s*(?:export\s+)?(\w+)\s*=\s*["']?([^"'#]*?)["']?\s*$/.exec(line) ?? [];
        if (value.length < shortest || !(isSecretSetting(name) || /:\/\/[^/]*:[^/]*@/.test(value)) || !code.includes(value)) return [];
        return [{ where: `${shown(file)}:${index + 1}`, what: `the value of ${name}, which is in the code that would be packed` }];
      });
  });
}

function filesBelow(path: string): string[] {
  if (!existsSync(path)) return [];
  if (!statSync(path).isDirectory()) return [path];
  return readdirSync(path)
    .map((name) => join(path, name))
    .filter(isCarried)
    .flatMap(filesBelow);
}

/** @throws JexoError JEXO_SECRET with every place */
export function refuseSecrets(found: readonly FoundSecret[]): void {
  const [first] = found;
  if (first === undefined) return;
  throw new JexoError(
    'JEXO_SECRET',
    `What would be packed holds secrets:\n${found.map(({ where, what }) => `${where}: ${what}`).join('\n')}`,
    {
      where: first.where,
      data: { found },
    },
  );
}
