import { randomBytes } from 'node:crypto';
import { createBench } from '../inspect/bench.js';
import { createBenchApi } from '../inspect/bench-api.js';
import { packageFile } from '../own-package.js';
import { servePage } from '../transports/http/serve-page.js';
import type { Choice } from '../offers/choose.js';
import { connectTarget, reportOmitted, showTarget, takeTarget } from './connect-target.js';
import { readHeaders } from './headers.js';
import { note, onErr, print, symbols } from './terminal.js';

interface InspectOptions {
  readonly port: number;
  readonly json?: boolean;
  readonly header?: string[];
  readonly wireLog?: string;
  readonly choice?: Choice;
}

export async function inspect(operands: readonly string[], command: readonly string[] | undefined, options: InspectOptions): Promise<void> {
  const { target } = takeTarget(operands, command, 'As in: jexo inspect hives.ts');
  const headers = readHeaders(options.header);
  const bench = createBench({
    target: showTarget(target),
    open: (more) => connectTarget(target, { headers, wireLog: options.wireLog, choice: options.choice, ...more }),
  });
  const token = randomBytes(24).toString('base64url');
  const key = randomBytes(24).toString('base64url');
  const page = await servePage({ folder: packageFile('dist/page'), api: createBenchApi(bench, { token, key }), port: options.port });
  const address = `${page.url}#${token}`;
  await bench.connect();
  const { status, tools, trouble, omitted } = bench.state();
  if (options.json)
    print(
      JSON.stringify({
        address,
        target: showTarget(target),
        status,
        tools: tools.map(({ tool }) => tool.name),
        ...(trouble && { trouble }),
      }),
    );
  else {
    if (trouble === undefined)
      note(
        `${onErr('moss', symbols.ok)} Connected to ${onErr('bold', showTarget(target))}: ${tools.length} ${tools.length === 1 ? 'tool' : 'tools'}`,
      );
    else note(`${onErr('brick', symbols.failed)} ${trouble.message} ${onErr('quiet', `(${trouble.code})`)}\n  ${trouble.next ?? ''}`);
    reportOmitted(omitted);
    note(`  Open the bench at ${onErr('amber', address)}`);
    note('  The address works once, on this machine only. Stop with Ctrl-C.');
  }
  await new Promise<void>((resolve) => {
    for (const signal of ['SIGINT', 'SIGTERM'] as const) process.once(signal, () => resolve());
  });
  await page.close();
  await bench.close();
}
