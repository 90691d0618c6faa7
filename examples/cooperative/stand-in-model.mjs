// A stand-in for a host application's model. It is none: it repeats the request's last lines in a fixed form, so that
// the demo shows the same words in every run.
export function standInModel({ messages, maxTokens }) {
  const last = [messages.at(-1).content]
    .flat()
    .map((block) => block.text ?? '')
    .join('\n');
  const lines = last.split('\n').slice(1).filter(Boolean);
  const text = `(stand-in model) ${lines.length} inspections; the last says: ${lines.at(-1) ?? 'nothing'}`;
  return { role: 'assistant', content: { type: 'text', text: text.slice(0, maxTokens * 4) }, model: 'stand-in', stopReason: 'endTurn' };
}
