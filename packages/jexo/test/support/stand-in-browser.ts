import { chmodSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';

/** What takes the place of a browser in BROWSER: it hands the address that its page leads to over to a person of the test. */
export interface StandInBrowser {
  /** The program. */
  readonly file: string;
  /** Addresses that were opened. */
  readonly visited: string[];
  stop(): Promise<unknown>;
}

export async function standInBrowser(file: string, visit: (address: string) => Promise<unknown>): Promise<StandInBrowser> {
  const visited: string[] = [];
  const person = createServer((request, response) => {
    const address = new URL(request.url!, 'http://x').searchParams.get('url')!;
    visited.push(address);
    response.end();
    void visit(address);
  });
  await new Promise<void>((resolve) => person.listen(0, '127.0.0.1', resolve));
  writeFileSync(
    file,
    `#!${process.execPath}
import { readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
const page = readFileSync(fileURLToPath(process.argv[2]), 'utf8');
const address = JSON.parse(/replace\\((".*?")\\)/.exec(page)[1]);
await fetch('http://127.0.0.1:${(person.address() as AddressInfo).port}/?url=' + encodeURIComponent(address));
`,
  );
  chmodSync(file, 0o755);
  return { file, visited, stop: () => new Promise((resolve) => person.close(resolve).closeAllConnections()) };
}
