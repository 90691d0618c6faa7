import { readFileSync } from 'node:fs';
import { Ajv2020 } from 'ajv/dist/2020.js';
import type { Revision } from '../../src/protocol/revisions.js';
import { newestRevision } from '../../src/protocol/revisions.js';
import type { WireEvent, WireTap } from '../../src/transports/link.js';

const folder = new URL('../../assets/schema/', import.meta.url);
const resultNames = JSON.parse(readFileSync(new URL('results.json', folder), 'utf8')) as Record<Revision, Record<string, string>>;
const judges = new Map<Revision, Ajv2020>();

function judgeOf(revision: Revision): Ajv2020 {
  let ajv = judges.get(revision);
  if (ajv === undefined) {
    ajv = new Ajv2020({ strict: false, allErrors: true, formats: { uri: /^[a-z][a-z0-9+.-]*:/i, 'uri-template': true } });
    ajv.addSchema(JSON.parse(readFileSync(new URL(`${revision}.json`, folder), 'utf8')), revision);
    judges.set(revision, ajv);
  }
  return ajv;
}

/** Why a value does not fit a definition of the protocol's schema; undefined when it does. */
export function misfit(revision: Revision, definition: string, value: unknown): string | undefined {
  const ajv = judgeOf(revision);
  const validate = ajv.getSchema(`${revision}#/$defs/${definition}`);
  if (validate === undefined) throw new Error(`The schema of ${revision} has no ${definition}.`);
  return validate(value) ? undefined : ajv.errorsText(validate.errors);
}

/** Follows one connection from the client's side and judges every message both ways, answers by what they answer. */
export function createJudge(): { tap: WireTap; findings: string[]; seen: number; messages: WireEvent[] } {
  const methods = new Map<string, string>();
  const judge = { findings: [] as string[], seen: 0, messages: [] as WireEvent[], tap: (event: WireEvent) => take(event) };
  let revision: Revision = newestRevision;
  const take = (event: WireEvent) => {
    judge.seen++;
    judge.messages.push(event);
    if (event.message === undefined) return; // a step of a sign-in, or headers alone
    const definition = event.way === 'sent' ? 'ClientMessage' : 'ServerMessage';
    for (const value of Array.isArray(event.message) ? event.message : [event.message]) {
      const message = value as {
        id?: unknown;
        method?: string;
        result?: { protocolVersion?: Revision };
        params?: { protocolVersion?: Revision; task?: object };
      };
      const key = (way: string) => `${way} ${typeof message.id} ${String(message.id)}`;
      if (message.method !== undefined && message.id !== undefined)
        methods.set(
          key(event.way),
          message.params?.task === undefined || revision !== '2025-11-25' ? message.method : `${message.method}#task`,
        );
      const answered = message.result === undefined ? undefined : methods.get(key(event.way === 'sent' ? 'received' : 'sent'));
      if (answered === 'initialize' && message.result?.protocolVersion) revision = message.result.protocolVersion;
      const why = misfit(revision, definition, message);
      if (why !== undefined) judge.findings.push(`${event.way} ${JSON.stringify(message)}: ${why}`);
      const resultName = answered === undefined ? undefined : resultNames[revision][answered];
      if (resultName !== undefined) {
        const misfitting = misfit(revision, resultName, message.result);
        if (misfitting !== undefined) judge.findings.push(`answer to ${answered} ${JSON.stringify(message.result)}: ${misfitting}`);
      }
    }
  };
  return judge;
}
