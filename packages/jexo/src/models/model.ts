import type { Tool } from '../protocol/types.js';

/** A model wants a tool called. */
export interface ToolCall {
  /** Ties the result to the call. */
  readonly id: string;
  /** The tool. */
  readonly name: string;
  /** What it is called with. */
  readonly input: Readonly<Record<string, unknown>>;
  /** Why the input cannot be used, where the model wrote something that is not a JSON object. The model gets this text as the result. */
  readonly broken?: string;
}

/** An image in a conversation. */
export interface TalkImage {
  /** As `image/png`. */
  readonly mimeType: string;
  /** The bytes, in base64. */
  readonly data: string;
}

/** One entry of a conversation. */
export type TalkEntry =
  | { readonly role: 'user'; readonly text: string; readonly images?: readonly TalkImage[] }
  | { readonly role: 'assistant'; readonly text?: string; readonly calls: readonly ToolCall[] }
  | {
      readonly role: 'tool';
      readonly id: string;
      readonly name: string;
      readonly text: string;
      readonly failed?: boolean;
      readonly images?: readonly TalkImage[];
    };

/** What a model is given. */
export interface Turn {
  /** The server's own instructions. */
  readonly instructions?: string;
  /** Called with each part of the text as it is written, by models that stream. */
  readonly onText?: (part: string) => void;
  /** What it may call. */
  readonly tools: readonly Tool[];
  /** What was said so far, oldest first. */
  readonly talk: readonly TalkEntry[];
}

/** A word of the request that speaks for a tool, and where the tool has it. */
export interface MatchedWord {
  /** As it stands in the request. */
  readonly word: string;
  /** Where the tool has it. */
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
  /** True when the model refuses; `text` says why. */
  readonly refused?: boolean;
  /** What the answer took, where the service says it. */
  readonly usage?: Usage;
}

/** Tokens that were used. */
export interface Usage {
  /** What the model read. */
  readonly inputTokens: number;
  /** What it wrote. */
  readonly outputTokens: number;
}

/** Something that chooses tools: the stand-in, or a driver to a real model. */
export interface Model {
  /** As a person calls it. */
  readonly name: string;
  /** True when it is no model at all. */
  readonly isStandIn: boolean;
  /** True for a model that takes images. Default false: then a text stands in place of each. */
  readonly takesImages?: boolean;
  /** What the model does next. */
  next(turn: Turn, signal?: AbortSignal): Promise<Move>;
}
