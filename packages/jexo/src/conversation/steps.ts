import type { ToolCall } from '../models/model.js';
import type { CallToolResult } from '../protocol/types.js';

/** Why a conversation ended. */
export type EndReason =
  /** The model has answered. */
  | 'answered'
  /** The model refuses. */
  | 'refused'
  /** The model could not be used; `error` says why. */
  | 'failed'
  /** Somebody has stopped it. */
  | 'cancelled'
  /** A limit was reached. */
  | 'steps'
  | 'calls'
  | 'time'
  | 'tokens'
  | 'cost';

/** How far a conversation may go. */
export interface Limits {
  /** Times the model is asked. Default 20. */
  readonly steps?: number;
  /** Calls of tools. Default 50. */
  readonly calls?: number;
  /** Milliseconds for all of it, with what a person takes to answer. Default 600,000. */
  readonly ms?: number;
  /** Tokens the model reads and writes, together. Default 500,000. */
  readonly tokens?: number;
  /** What it may cost, in the unit of `price`. Default: no limit. */
  readonly cost?: number;
  /** Calls that run at the same time. Default 4. */
  readonly parallel?: number;
  /** Calls within a minute; further ones wait. Default: no limit. */
  readonly callsPerMinute?: number;
  /** Milliseconds a call may take without an answer or progress. Default 60,000. */
  readonly callMs?: number;
  /** Tokens of an answer that the model is given; it can read the rest with `read_more`. Default 4,000. */
  readonly resultTokens?: number;
  /** Tokens of the descriptions of tools; beyond that they are chosen by words, and `find_tools` finds the rest. Default 16,000. */
  readonly toolTokens?: number;
  /** Tokens of the whole conversation that the model is given; the oldest exchanges are dropped first. Default 100,000. */
  readonly contextTokens?: number;
  /** Times the same call may be made with the same input; after that the model is told to do something else. Default 3. */
  readonly sameCall?: number;
}

/** What the model used up. */
export interface TotalUsage {
  /** Tokens it read. */
  readonly inputTokens: number;
  /** Tokens it wrote. */
  readonly outputTokens: number;
  /** True when the service did not say, and they were estimated. */
  readonly isEstimated: boolean;
  /** By the price that was given. */
  readonly cost?: number;
}

/** Who decided on a call: a rule, an earlier approval, the person, or nobody, since nobody was there. */
export type DecidedBy = 'rule' | 'earlier' | 'person' | 'nobody';

/** What happened, by its kind. */
export type StepEvent =
  /** What the person asked for, with what was put before it. */
  | { readonly kind: 'request'; readonly text: string; readonly context: readonly string[] }
  /** The model is asked, with these tools. */
  | { readonly kind: 'asked'; readonly model: string; readonly tools: readonly string[]; readonly tokens: number }
  /** A part of what the model is writing. */
  | { readonly kind: 'text'; readonly part: string }
  /** What the model did. */
  | {
      readonly kind: 'moved';
      readonly text?: string;
      readonly calls: readonly ToolCall[];
      readonly inputTokens: number;
      readonly outputTokens: number;
      readonly isEstimated: boolean;
      readonly tookMs: number;
    }
  /** Whether a call may be made. */
  | {
      readonly kind: 'approval';
      readonly id: string;
      readonly name: string;
      readonly server: string;
      readonly input: Readonly<Record<string, unknown>>;
      readonly approved: boolean;
      readonly by: DecidedBy;
      readonly why?: string;
    }
  /** A call goes to its server. */
  | {
      readonly kind: 'call';
      readonly id: string;
      readonly name: string;
      readonly server: string;
      readonly ownName: string;
      readonly input: Readonly<Record<string, unknown>>;
    }
  /** How far a call is. */
  | { readonly kind: 'progress'; readonly id: string; readonly progress: number; readonly total?: number; readonly message?: string }
  /** What the model is given for a call; `result` is missing for calls that reached no server. */
  | {
      readonly kind: 'result';
      readonly id: string;
      readonly name: string;
      readonly text: string;
      readonly failed: boolean;
      readonly result?: CallToolResult;
      readonly tookMs: number;
      /** Characters of the whole answer, where the model is given a part of it. */
      readonly cutFrom?: number;
    }
  /** A server asked the person, and what became of it. */
  | {
      readonly kind: 'question';
      readonly server: string;
      readonly tool?: string;
      readonly message: string;
      readonly action: 'accept' | 'decline' | 'cancel';
      readonly content?: Readonly<Record<string, unknown>>;
    }
  /** A server asked for the model, and whether the person agreed. */
  | { readonly kind: 'generated'; readonly server: string; readonly agreed: boolean; readonly text?: string }
  /** The oldest part of the conversation was dropped, so that the model can read the rest. */
  | { readonly kind: 'shortened'; readonly entries: number; readonly why: string }
  /** A server did not list its tools, or one of the conversation's inputs could not be read. */
  | { readonly kind: 'trouble'; readonly where: string; readonly why: string }
  /** The end. */
  | { readonly kind: 'ended'; readonly reason: EndReason; readonly answer: string; readonly usage: TotalUsage };

/** One event of a conversation. */
export type Step = StepEvent & {
  /** Counted from 1. */
  readonly n: number;
  /** Milliseconds since the conversation began. */
  readonly at: number;
  /** How often the model had been asked. */
  readonly turn: number;
};

/** How a conversation ended, with all that happened. */
export interface Outcome {
  /** What the model said last; empty when it said nothing. */
  readonly answer: string;
  /** Why it ended. */
  readonly ended: EndReason;
  /** What the model failed with. */
  readonly error?: Error;
  /** All that happened, in order; without the parts of texts. */
  readonly steps: readonly Step[];
  /** What the model used up. */
  readonly usage: TotalUsage;
  /** Calls that reached a server. */
  readonly calls: number;
  /** Milliseconds for all of it. */
  readonly tookMs: number;
}
