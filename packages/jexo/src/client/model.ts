import type { Tool } from '../protocol/types.js';

/** A model wants a tool called. */
export interface ToolCall {
  /** Ties the result to the call. */
  readonly id: string;
  /** The tool. */
  readonly name: string;
  /** What it is called with. */
  readonly input: Readonly<Record<string, unknown>>;
  /** Why the input cannot be used, where the model wrote something that is no JSON object; it is told so instead of a result. */
  readonly broken?: string;
}

/** What was said so far, oldest first. */
export type TalkEntry =
  | { readonly role: 'user'; readonly text: string }
  | { readonly role: 'assistant'; readonly text?: string; readonly calls: readonly ToolCall[] }
  | { readonly role: 'tool'; readonly id: string; readonly name: string; readonly text: string; readonly failed?: boolean };

/** What a model is given. */
export interface Turn {
  /** The server's own instructions. */
  readonly instructions?: string;
  /** What it may call. */
  readonly tools: readonly Tool[];
  /** What was said so far, oldest first. */
  readonly talk: readonly TalkEntry[];
}

/** A word of the request that speaks for a tool, and where the tool has it. */
export interface MatchedWord {
  readonly word: string;
  readonly where: readonly ('name' | 'description' | 'parameters')[];
}

/** A tool that was weighed. Only models that can say why they choose give these. */
export interface Candidate {
  /** The name of the tool. */
  readonly tool: string;
  /** Of the best one's weight, 0 to 1. */
  readonly share: number;
  /** The words it shares with the request, with where they stand. */
  readonly words: readonly MatchedWord[];
  /** The input as far as the request gives it. */
  readonly input: Readonly<Record<string, unknown>>;
  /** Required inputs the request does not tell. */
  readonly missing: readonly string[];
}

/** What a model does next: calls tools, says something, or both. */
export interface Move {
  /** Tools to call next; none when the model is done, or chooses none. */
  readonly calls: readonly ToolCall[];
  /** What it says. */
  readonly text?: string;
  /** What a stand-in weighed, the likeliest first. */
  readonly candidates?: readonly Candidate[];
}

/** Something that chooses tools: the stand-in, or a driver to a real model. */
export interface Model {
  /** As a person calls it. */
  readonly name: string;
  /** True when it is no model at all. */
  readonly isStandIn: boolean;
  /** What the model does next. */
  next(turn: Turn, signal?: AbortSignal): Promise<Move>;
}
