import type { Tool } from '../../protocol/types.js';
import { estimateTokens } from '../../models/tokens.js';
import type { Report, Seen } from './finding.js';
import { tellingWords } from './telling-words.js';

/** Tools that share one description. */
export function checkSameDescription(tools: readonly Tool[], report: Report): void {
  const groups = new Map<string, string[]>();
  for (const { name, description = '' } of tools)
    if (description.trim() !== '') groups.set(description.trim(), [...(groups.get(description.trim()) ?? []), name]);
  for (const [description, [first, ...others]] of groups)
    if (others.length > 0)
      report({
        rule: 'same-description',
        severity: 'warning',
        subject: `tool ${first}`,
        message: `${others.join(', ')} ${others.length === 1 ? 'has' : 'have'} the same description: ${JSON.stringify(description.slice(0, 80))}.`,
        remedy: 'Say how each differs from the others.',
      });
}

/** From this share of their telling words on, two tools are taken for one another. */
const alike = 0.65;

export function checkConfusable(tools: readonly Tool[], report: Report): void {
  const bags = tools.map((tool) => ({
    name: tool.name,
    description: tool.description,
    words: tellingWords(`${tool.name} ${tool.description ?? ''}`),
  }));
  for (let first = 0; first < bags.length; first++) {
    for (let second = first + 1; second < bags.length; second++) {
      const [a, b] = [bags[first]!, bags[second]!];
      if (a.words.length < 3 || b.words.length < 3 || a.description === b.description) continue; // the same: told by its own rule
      const shared = a.words.filter((word) => b.words.includes(word));
      const share = shared.length / new Set([...a.words, ...b.words]).size;
      if (share < alike) continue;
      report({
        rule: 'confusable-tools',
        severity: 'warning',
        subject: `tool ${a.name}`,
        message: `A model would confuse it with ${b.name}: ${Math.round(share * 100)} % of their words are the same (${shared.slice(0, 8).join(', ')}).`,
        remedy: 'Say in each what the other does not do, and when to use it.',
      });
    }
  }
}

const longList = 8000;
const tooLongList = 20_000;

export function checkSize({ tools, whenTooMany }: Seen, report: Report): void {
  const costs = tools
    .map(({ name, description, inputSchema }) => ({ name, tokens: estimateTokens({ name, description, inputSchema }) }))
    .sort((a, b) => b.tokens - a.tokens);
  const total = costs.reduce((sum, { tokens }) => sum + tokens, 0);
  if (total < longList) return;
  const largest = costs
    .slice(0, 5)
    .map(({ name, tokens }) => `${name} ~${tokens}`)
    .join(', ');
  report({
    rule: 'list-size',
    severity: total >= tooLongList ? 'error' : 'warning',
    subject: 'server',
    message: `Its ${tools.length} tools cost a model ~${total.toLocaleString('en')} tokens in every request. The largest: ${largest}.`,
    remedy: whenTooMany ?? 'Offer fewer of them (--only), and shorten the largest: jexo inspect shows what trimming saves.',
  });
}
