import type { Step } from '../../conversation/steps.js';
import { duration, note, onErr, onOut, print, symbols, width, wrap } from '../terminal.js';
import type { ProgressUpdate } from '../../protocol/types.js';
import { markdownStream, type MarkdownStream } from './markdown.js';
import { counted } from '../../protocol/counted.js';

/** Shows a conversation as it goes: what happens on stderr, the answer on stdout. */
export interface Screen {
  readonly onStep: (step: Step) => void;
}

/** Lines of a result that are shown; all of it is in the trace. */
const mostLines = 6;

/**
 * @param rendered false prints the model's Markdown as it stands, for a pipe
 */
export function createScreen(progress: { show(update: ProgressUpdate): void; clear(): void }, rendered: boolean): Screen {
  let text: MarkdownStream | undefined;
  let hasStreamed = false;
  let isBelowCalls = false;
  const begin = () => {
    if (isBelowCalls) note('');
    isBelowCalls = false;
    return (text ??= rendered ? markdownStream(print) : rawStream());
  };
  const end = () => {
    text?.end();
    text = undefined;
  };
  return {
    onStep(step) {
      if (step.kind !== 'progress') progress.clear();
      switch (step.kind) {
        case 'text':
          hasStreamed = true;
          return begin().add(step.part);
        case 'moved':
          // A service that does not stream gives its text at once.
          if (!hasStreamed && step.text !== undefined) begin().add(step.text);
          hasStreamed = false;
          return end();
        case 'approval':
          if (!step.approved) note(`${onErr('ochre', symbols.warn)} ${step.name} is not called: ${step.why ?? 'you said no.'}`);
          return undefined;
        case 'call':
          return note(
            `${onErr('lake', symbols.out)} ${onErr('bold', step.name)} ${onErr('quiet', short(JSON.stringify(step.input), width(process.stderr) - step.name.length - 4))}`,
          );
        case 'progress':
          return progress.show({
            progress: step.progress,
            ...(step.total !== undefined && { total: step.total }),
            ...(step.message !== undefined && { message: step.message }),
          });
        case 'result':
          isBelowCalls = true;
          return showResult(step);
        case 'shortened':
          return note(onErr('quiet', `${step.why} (${counted(step.entries, 'entry', 'entries')})`));
        case 'trouble':
          return note(`${onErr('ochre', symbols.warn)} ${step.where}: ${step.why}`);
        case 'generated':
          return step.agreed ? note(onErr('quiet', `${step.server} had the model write: ${short(step.text ?? '', 80)}`)) : undefined;
        case 'ended':
          end();
          return showEnd(step);
        default:
          return undefined;
      }
    },
  };
}

function showResult({ name, text, failed, tookMs, cutFrom }: Step & { readonly kind: 'result' }): void {
  const lines = wrap(text, width(process.stderr) - 4).filter((line) => line !== '');
  const more = lines.length - mostLines;
  const notes = [
    ...(more > 0 ? [`${more} more lines`] : []),
    ...(cutFrom !== undefined ? [`the model is given a part of ${cutFrom} characters`] : []),
    ...(tookMs > 0 ? [duration(tookMs)] : []),
  ].join(', ');
  note(`${failed ? onErr('brick', symbols.failed) : onErr('moss', symbols.in)} ${name} ${onErr('quiet', notes)}`);
  for (const line of lines.slice(0, mostLines)) note(`  ${onErr('quiet', line)}`);
}

const reasons: Readonly<Record<string, string>> = {
  steps: 'The model was asked as often as --steps allows, and has not come to an end.',
  calls: 'As many calls were made as --calls allows.',
  time: 'The time of --minutes is over.',
  tokens: 'The tokens of --tokens are used up.',
  cancelled: 'Stopped.',
  refused: 'The model refuses.',
};

function showEnd({ reason, usage }: Step & { readonly kind: 'ended' }): void {
  const why = reasons[reason];
  if (why !== undefined) note(`${onErr('ochre', symbols.warn)} ${why}`);
  const tokens = usage.inputTokens + usage.outputTokens;
  note(onErr('quiet', `${usage.isEstimated ? '~' : ''}${tokens} tokens`));
}

function short(text: string, most: number): string {
  const line = text.replaceAll(/\s+/g, ' ');
  return line.length <= most ? line : `${line.slice(0, Math.max(0, most - 1))}…`;
}

/** The model's own text, a line at a time: what is printed stays as it was written. */
function rawStream(): MarkdownStream {
  let rest = '';
  return {
    add(part) {
      const lines = (rest + part).split('\n');
      rest = lines.pop()!;
      lines.forEach(print);
    },
    end() {
      if (rest !== '') print(rest);
      rest = '';
    },
  };
}

/** The steps of a conversation, a line each. */
export function showTrace(steps: readonly Step[]): void {
  for (const step of steps) {
    const line = traceLine(step);
    if (line !== undefined) print(`${onOut('quiet', `${(step.at / 1000).toFixed(2).padStart(7)} s`)}  ${line}`);
  }
}

function traceLine(step: Step): string | undefined {
  const room = width() - 14;
  switch (step.kind) {
    case 'request':
      return `${onOut('bold', 'you')} ${short(step.text, room - 4)}`;
    case 'asked':
      return onOut('quiet', `${step.model} is asked, with ${counted(step.tools.length, 'tool')}, ~${step.tokens} tokens`);
    case 'moved':
      return `${onOut('heather', 'model')} ${short(step.text ?? step.calls.map(({ name }) => name).join(', '), room - 6)}`;
    case 'approval':
      return onOut('quiet', `${step.name} ${step.approved ? 'is approved' : 'is not approved'} by ${decided[step.by]}`);
    case 'call':
      return `${onOut('lake', symbols.out)} ${step.server} › ${step.ownName} ${short(JSON.stringify(step.input), room - step.ownName.length - 12)}`;
    case 'result':
      return `${step.failed ? onOut('brick', symbols.failed) : onOut('moss', symbols.in)} ${short(step.text, room - 2)} ${onOut('quiet', duration(step.tookMs))}`;
    case 'question':
      return `${onOut('heather', symbols.in)} ${step.server} asks: ${short(step.message, room - 20)} ${onOut('quiet', step.action)}`;
    case 'generated':
      return `${onOut('heather', symbols.in)} ${step.server} asks for the model ${onOut('quiet', step.agreed ? 'agreed' : 'refused')}`;
    case 'ended':
      return onOut('quiet', `ended: ${step.reason}`);
    case 'shortened':
    case 'trouble':
      return onOut('ochre', short(step.why, room));
    default:
      return undefined;
  }
}

const decided = { rule: 'a rule', earlier: 'an earlier approval', person: 'you', nobody: 'nobody' } as const;
