import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';

/** A package that is built into a file, with what its licence says. */
export interface BuiltIn {
  readonly name: string;
  readonly version: string;
  /** SPDX expression, as the package states it. */
  readonly license: string;
  /** The licence's text. Empty when the package ships none and its licence is not MIT. */
  readonly text: string;
}

/**
 * The packages that files were taken from, each once, by name.
 * @param files paths as a bundler gives them; those outside node_modules are passed over
 * @param root what relative paths are relative to
 */
export function packagesOf(files: Iterable<string>, root: string): BuiltIn[] {
  const folders = new Set<string>();
  for (const file of files) {
    const [folder] = /^.*node_modules[\\/](?:@[^\\/]+[\\/])?[^\\/]+/.exec(file.replace(/^\0|\?.*$/g, '')) ?? [];
    if (folder !== undefined) folders.add(/^([\\/]|[A-Za-z]:)/.test(folder) ? folder : join(root, folder));
  }
  const found = new Map<string, BuiltIn>();
  for (const folder of folders) {
    if (!existsSync(join(folder, 'package.json'))) continue;
    const stated = JSON.parse(readFileSync(join(folder, 'package.json'), 'utf8')) as Stated;
    const { name, version = '' } = stated;
    const license = typeof stated.license === 'string' ? stated.license : (stated.license?.type ?? 'not stated');
    found.set(`${name}@${version}`, { name, version, license, text: textOf(folder, license, stated) });
  }
  return [...found.values()].sort((a, b) => (a.name < b.name ? -1 : a.name > b.name ? 1 : 0));
}

/**
 * Name, version, licence and copyright of each package, in Markdown. Packages whose licences say the same are listed together, with
 * the text once.
 */
export function noticesOf(packages: readonly BuiltIn[]): string {
  const alike = new Map<string, { readonly text: string; readonly of: string[] }>();
  for (const { name, version, license, text } of packages) {
    const lines = text.split(/\r?\n/);
    const holders = lines.filter(isCopyright).map((line) => line.trim());
    const rest = lines
      .filter((line) => !isCopyright(line))
      .join('\n')
      .trim();
    const key = `${license} ${rest.replaceAll(/[\s"'“”*_]+/g, ' ').toLowerCase()}`;
    const group = alike.get(key) ?? { text: rest, of: [] };
    alike.set(key, group);
    group.of.push(`## ${name} ${version} (${license})`, ...(holders.length > 0 ? [holders.join('\n')] : []));
  }
  return [...alike.values()].map(({ text, of }) => `${of.join('\n\n')}\n\n${text}\n`).join('\n');
}

const isCopyright = (line: string) => /^\W*copyright\s+(\(c\)|©|\d{4})/i.test(line);

interface Stated {
  readonly name: string;
  readonly version?: string;
  readonly license?: string | { readonly type?: string };
  readonly author?: string | { readonly name?: string };
}

function textOf(folder: string, license: string, { name, author }: Stated): string {
  const files = readdirSync(folder)
    .filter((entry) => /^(licen[cs]e|copying|notice)/i.test(entry))
    .sort();
  if (files.length > 0) return files.map((file) => readFileSync(join(folder, file), 'utf8').trim()).join('\n\n');
  // A package may state MIT and ship no text; the licence asks for it all the same.
  const holder = (typeof author === 'string' ? author.replace(/\s*[<(].*$/, '') : author?.name) ?? `the authors of ${name}`;
  return license === 'MIT' ? `MIT License\n\nCopyright (c) ${holder}\n\n${mit}` : '';
}

const mit = `Permission is hereby granted, free of charge, to any person obtaining a copy of this software and associated documentation files (the "Software"), to deal in the Software without restriction, including without limitation the rights to use, copy, modify, merge, publish, distribute, sublicense, and/or sell copies of the Software, and to permit persons to whom the Software is furnished to do so, subject to the following conditions:

The above copyright notice and this permission notice shall be included in all copies or substantial portions of the Software.

THE SOFTWARE IS PROVIDED "AS IS", WITHOUT WARRANTY OF ANY KIND, EXPRESS OR IMPLIED, INCLUDING BUT NOT LIMITED TO THE WARRANTIES OF MERCHANTABILITY, FITNESS FOR A PARTICULAR PURPOSE AND NONINFRINGEMENT. IN NO EVENT SHALL THE AUTHORS OR COPYRIGHT HOLDERS BE LIABLE FOR ANY CLAIM, DAMAGES OR OTHER LIABILITY, WHETHER IN AN ACTION OF CONTRACT, TORT OR OTHERWISE, ARISING FROM, OUT OF OR IN CONNECTION WITH THE SOFTWARE OR THE USE OR OTHER DEALINGS IN THE SOFTWARE.`;
