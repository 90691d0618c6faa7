import type { ApprovalRequest, PersonSays } from '../../conversation/approvals.js';
import type { CreateMessageParams } from '../../protocol/types.js';
import { askLine, askYesNo, isSomebodyThere } from '../ask.js';
import { note, onErr, symbols, width, wrap } from '../terminal.js';

/** Asks the person at the terminal whether a call may be made. Nothing but a plain yes is one. */
export async function askApproval({ tool, input, changedFrom, signal }: ApprovalRequest): Promise<PersonSays> {
  const { annotations } = tool;
  const kind =
    annotations?.readOnlyHint === true
      ? 'says that it only reads'
      : annotations?.destructiveHint === false
        ? 'says that it only adds'
        : 'may change or delete something';
  note(`\n${onErr('lake', symbols.out)} The model wants to call ${onErr('bold', onOneLine(tool.label))} ${onErr('quiet', `(${kind})`)}`);
  for (const [name, value] of Object.entries(input)) {
    const key = onOneLine(name);
    const [first = '', ...more] = wrap(typeof value === 'string' ? value : JSON.stringify(value), width(process.stderr) - key.length - 5);
    note(`  ${onErr('heather', key)}  ${first}`);
    for (const line of more) note(`  ${' '.repeat(key.length)}  ${line}`);
  }
  if (changedFrom !== undefined) {
    note(`  ${onErr('ochre', symbols.warn)} Its definition has changed since it was approved:`);
    for (const [what, before, now] of changes(changedFrom, tool)) {
      note(`    ${what} was  ${onErr('quiet', before)}`);
      note(`    ${' '.repeat(what.length)} is   ${now}`);
    }
  }
  const question = `  Call it? ${onErr('quiet', `[y]es, always [t]his tool, all of ${tool.server} for this [s]ession, [n]o`)} `;
  for (;;) {
    const said = (await askLine(question, signal))?.trim().toLowerCase();
    if (said === undefined || /^no?$/.test(said)) return 'no';
    if (/^y(es)?$/.test(said)) return 'once';
    if (/^t(his)?( tool)?$/.test(said)) return 'tool';
    if (/^s(ession)?$/.test(said)) return 'session';
  }
}

/** What a server or a model wrote must not look like lines of ours. */
const onOneLine = (text: string) => text.replaceAll(/\s+/g, ' ');

function changes(before: object, now: object): [what: string, before: string, now: string][] {
  const text = (value: unknown) => (typeof value === 'string' ? value : (JSON.stringify(value) ?? 'nothing'));
  return ['title', 'description', 'annotations', 'inputSchema', 'outputSchema'].flatMap((key) => {
    const [was, is] = [before, now].map((each) => text((each as Record<string, unknown>)[key]));
    return was === is ? [] : [[key, was!, is!] as [string, string, string]];
  });
}

/** Whether a server may have the model write something. */
export async function askConsent({ messages, systemPrompt }: CreateMessageParams, server: string): Promise<boolean> {
  if (!isSomebodyThere()) return false;
  note(`\n${onErr('heather', symbols.in)} ${onErr('bold', `${server} asks your model:`)}`);
  const texts = messages.flatMap(({ content }) =>
    [content].flat().flatMap((block) => (block.type === 'text' ? [block.text] : [`[${block.type}]`])),
  );
  for (const text of [...(systemPrompt === undefined ? [] : [systemPrompt]), ...texts])
    for (const line of wrap(text, width(process.stderr) - 4).slice(0, 20)) note(`  ${onErr('quiet', line)}`);
  return askYesNo('  May it?');
}
