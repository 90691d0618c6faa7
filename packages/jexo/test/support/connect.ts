import {
  connect as plainConnect,
  defineServer,
  isServer,
  serveHttp,
  wrapServer,
  type Client,
  type ConnectOptions,
  type ConnectTarget,
  type Server,
} from '../../src/index.js';
import { createJudge } from './judge.js';

/** What the protocol's schema had to find fault with since the last test. */
let findings: string[][] = [];

/** The library's own `connect`, with every message both ways judged by the schema of its revision; see `judge-all.ts`. */
export async function connect(target: ConnectTarget, options: ConnectOptions = {}): Promise<Client> {
  const judge = createJudge();
  findings.push(judge.findings);
  const bridged =
    process.env.JEXO_TEST_BRIDGED === undefined || !isServer(target) ? undefined : await bridge(target, process.env.JEXO_TEST_BRIDGED);
  const client = await plainConnect(bridged?.server ?? target, {
    ...options,
    tap(event) {
      judge.tap(event);
      options.tap?.(event);
    },
  });
  return bridged === undefined ? client : { ...client, close: () => client.close().then(bridged.close) };
}

/** With JEXO_TEST_BRIDGED, a server value is reached through a bridge, over the transport it names: its tests must not notice. */
async function bridge(server: Server, way: string): Promise<{ readonly server: Server; close(): Promise<void> }> {
  const { offers: _, ...definition } = server.definition;
  const service = way === 'http' ? await serveHttp(server) : undefined;
  const front = defineServer({ ...definition, middleware: [], offers: [wrapServer(service?.url ?? server, { required: true })] });
  return {
    server: front,
    async close() {
      await front.close();
      await service?.close();
    },
  };
}

export function takeFindings(): string[] {
  const found = findings.flat();
  findings = [];
  return found;
}
