import type { Answered } from '../client/answer-server.js';
import type { Served } from '../client/clients.js';
import { JexoError } from '../errors.js';
import { tagsOf } from '../offers/catalogue.js';
import { glob } from '../offers/choose.js';
import type { Tool } from '../protocol/types.js';
import { definitionHash } from './definition-hash.js';
import type { DecidedBy } from './steps.js';

/** A call that a model wants to make. */
export interface ApprovalRequest {
  /** The tool, with the server it is from. What it says of itself is the server's word. */
  readonly tool: Tool & Served;
  /** What it would be called with. */
  readonly input: Readonly<Record<string, unknown>>;
  /** The definition that was approved before, when the tool's own has changed since. Show it: the tool may do something else now. */
  readonly changedFrom?: Tool;
  /** Fires when nobody waits for the decision any more. */
  readonly signal: AbortSignal;
}

/** Whether a call may be made, and who said so. */
export interface Decision {
  /** True when it may. */
  readonly approved: boolean;
  /** Default: `person`. */
  readonly by?: DecidedBy;
  /** Told to the model when the call may not be made. */
  readonly why?: string;
}

/** Decides on each call; anything but `true` or `approved: true` refuses it. */
export type Approve = (request: ApprovalRequest) => Answered<boolean | Decision>;

/** What a person says to a call: this once, always for this tool, for all tools of the server until the end, or no. */
export type PersonSays = 'once' | 'tool' | 'session' | 'no';

/** An approval that is kept for a tool. */
export interface KeptApproval {
  /** The hash of the definition that was approved. */
  readonly hash: string;
  /** The definition itself. */
  readonly definition: Tool;
  /** True when the person has approved all calls of the tool. */
  readonly isForAll: boolean;
}

/** Where approvals are kept, by the server’s address and the tool’s own name. */
export interface ApprovalStore {
  /** The approval of a tool; undefined when there is none. */
  get(key: string): Answered<KeptApproval | undefined>;
  /** Keeps it, in place of an earlier one. */
  set(key: string, approval: KeptApproval): Answered<void>;
}

/**
 * Rules by pattern: a name (`mix_*`), `server:hives`, `tag:lab`, or what tools say of themselves: `read-only`, `destructive`,
 * `idempotent`, `open-world`. A tool without annotations is neither read-only nor harmless (Server features, "Tools", annotations).
 */
export interface ApprovalRules {
  /** Called without asking. */
  readonly allow?: readonly string[];
  /** Always asked for, whatever was approved before. */
  readonly ask?: readonly string[];
  /** Never called. */
  readonly refuse?: readonly string[];
}

/** How `approvals` decides. */
export interface ApprovalsOptions extends ApprovalRules {
  /** Asks the person. Without it, what no rule allows is refused. */
  readonly person?: (request: ApprovalRequest) => Answered<PersonSays>;
  /** Where approvals are kept. Default: until the process ends. */
  readonly store?: ApprovalStore;
}

/**
 * Decides on calls by rules, by what was approved before, and by asking the person.
 *
 * `refuse` comes before `ask`, and `ask` before `allow`. Each tool that was ever allowed is remembered with a hash of its definition: when
 * the definition has changed, neither rule nor approval holds any more, and the person is asked with both.
 *
 * @throws JexoError JEXO_USAGE for a rule that cannot be read
 * @example
 * await converse({ clients, request, approve: approvals({ allow: ['read-only'], ask: ['destructive'], person: askAtTheTerminal }) });
 */
export function approvals({ person, store = approvalStore(), ...rules }: ApprovalsOptions = {}): Approve {
  const [refused, asked, allowed] = [rules.refuse, rules.ask, rules.allow].map((patterns = []) => readRules(patterns));
  const forSession = new Set<string>();
  return async (request) => {
    const { tool } = request;
    const refusal = refused!.find(({ matches }) => matches(tool));
    if (refusal !== undefined) return { approved: false, by: 'rule', why: `A rule refuses it: ${refusal.pattern}.` };
    // By its address: another server of this name has not been approved.
    const key = `${tool.address} ${tool.ownName}`;
    const [hash, before] = await Promise.all([definitionHash(plain(tool)), store.get(key)]);
    const isChanged = before !== undefined && before.hash !== hash;
    const keep = async (isForAll: boolean) => {
      if (!isChanged && before !== undefined && (before.isForAll || !isForAll)) return;
      await store.set(key, { hash, definition: plain(tool), isForAll });
    };
    const mustAsk = isChanged || asked!.some(({ matches }) => matches(tool));
    if (!mustAsk) {
      if (allowed!.some(({ matches }) => matches(tool))) {
        await keep(false);
        return { approved: true, by: 'rule' };
      }
      if (before?.isForAll || forSession.has(tool.address)) {
        await keep(false);
        return { approved: true, by: 'earlier' };
      }
    }
    if (person === undefined)
      return {
        approved: false,
        by: 'nobody',
        why: isChanged
          ? 'Its definition has changed since it was approved, and nobody was there to be asked.'
          : 'Nobody was there to approve it.',
      };
    const said = await person(isChanged ? { ...request, changedFrom: before.definition } : request);
    if (said !== 'once' && said !== 'tool' && said !== 'session') return { approved: false, by: 'person', why: 'The person refused it.' };
    await keep(said === 'tool');
    if (said === 'session') forSession.add(tool.address);
    return { approved: true, by: 'person' };
  };
}

/** Approvals until the process ends. */
export function approvalStore(): ApprovalStore {
  const kept = new Map<string, KeptApproval>();
  return { get: (key) => kept.get(key), set: (key, approval) => void kept.set(key, approval) };
}

/** The tool as its server defines it. */
function plain({ server: _, address: __, ownName, label: ___, ...tool }: Tool & Served): Tool {
  return { ...tool, name: ownName };
}

interface Rule {
  readonly pattern: string;
  matches(tool: Tool & Served): boolean;
}

const byAnnotation: Readonly<Record<string, (tool: Tool) => boolean>> = {
  'read-only': ({ annotations }) => annotations?.readOnlyHint === true,
  // By the standard, a tool that changes something counts as destructive unless it says otherwise.
  destructive: ({ annotations }) => annotations?.readOnlyHint !== true && annotations?.destructiveHint !== false,
  idempotent: ({ annotations }) => annotations?.readOnlyHint === true || annotations?.idempotentHint === true,
  'open-world': ({ annotations }) => annotations?.openWorldHint !== false,
};

function readRules(patterns: readonly string[]): readonly Rule[] {
  return patterns.map((pattern) => {
    const annotation = Object.hasOwn(byAnnotation, pattern) ? byAnnotation[pattern] : undefined;
    if (annotation !== undefined) return { pattern, matches: annotation };
    const [, kind, rest = ''] = /^(tag|server):(.+)$/.exec(pattern) ?? [];
    if (kind === 'tag') return { pattern, matches: ({ _meta }) => tagsOf(_meta).includes(rest) };
    if (kind === 'server') return { pattern, matches: ({ server }) => glob(rest).test(server) };
    if (typeof pattern !== 'string' || !/^[\w.*/-]+$/.test(pattern))
      throw new JexoError('JEXO_USAGE', `${JSON.stringify(pattern)} is not a rule for approvals.`, {
        where: String(pattern),
        next: `Write a tool's name or pattern, server:<name>, tag:<tag>, or one of ${Object.keys(byAnnotation).join(', ')}.`,
      });
    const test = glob(pattern);
    return { pattern, matches: ({ name, ownName }) => test.test(name) || test.test(ownName) };
  });
}
