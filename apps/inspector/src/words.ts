import type { CallSheet, OfferKind } from './model';

export function duration(ms: number): string {
  if (ms < 10) return `${ms.toFixed(1)} ms`;
  return ms < 1000 ? `${Math.round(ms)} ms` : `${(ms / 1000).toFixed(1)} s`;
}

export function bytes(count: number): string {
  return count < 1000 ? `${count} B` : count < 1_000_000 ? `${(count / 1000).toFixed(1)} kB` : `${(count / 1_000_000).toFixed(1)} MB`;
}

export function tokens(count: number): string {
  return `~${count.toLocaleString('en')} tokens`;
}

export const kindSigns: Record<OfferKind, { readonly sign: string; readonly one: string; readonly many: string }> = {
  tool: { sign: 'ƒ', one: 'tool', many: 'Tools' },
  resource: { sign: '§', one: 'resource', many: 'Resources' },
  template: { sign: '{}', one: 'template', many: 'Templates' },
  prompt: { sign: '¶', one: 'prompt', many: 'Prompts' },
};

export const outcomes: Record<CallSheet['status'], { readonly mark: string; readonly words: string }> = {
  running: { mark: '…', words: 'running' },
  answered: { mark: '✓', words: 'answered' },
  failed: { mark: '✗', words: 'failed' },
  cancelled: { mark: '–', words: 'cancelled' },
};
