import { connect as plainConnect, type Client, type ConnectOptions, type ConnectTarget } from '../../src/index.js';
import { createJudge } from './judge.js';

/** What the protocol's schema had to find fault with since the last test. */
let findings: string[][] = [];

/** The library's own `connect`, with every message both ways judged by the schema of its revision; see `judge-all.ts`. */
export function connect(target: ConnectTarget, options: ConnectOptions = {}): Promise<Client> {
  const judge = createJudge();
  findings.push(judge.findings);
  return plainConnect(target, {
    ...options,
    tap(event) {
      judge.tap(event);
      options.tap?.(event);
    },
  });
}

export function takeFindings(): string[] {
  const found = findings.flat();
  findings = [];
  return found;
}
