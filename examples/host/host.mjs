// A host application in 40 lines: two servers, a model (here its stand-in), approvals, and every step as it happens.
// Run: node host.mjs "How much sugar do 12 colonies need in autumn?"
import { fileURLToPath } from 'node:url';
import { approvals, connectAll, converse, standIn } from 'jexo';

const hives = fileURLToPath(new URL('../cooperative/hives.ts', import.meta.url));
const handbook = fileURLToPath(new URL('../cooperative/handbook', import.meta.url));
const request = process.argv[2] ?? 'How much sugar and water do 12 colonies need for one feeding of thick syrup?';

const clients = await connectAll({ hives, handbook });
const { answer, ended } = await converse({
  clients,
  request,
  // Any service that speaks the chat-completions JSON: chatCompletions({ baseUrl, model, key })
  model: standIn,
  // What only reads is called; everything else would be asked for here.
  approve: approvals({ allow: ['read-only'], person: async ({ name }) => (console.log(`? ${name}: no, nobody is here to ask`), 'no') }),
  onStep(step) {
    if (step.kind === 'asked')
      console.log(`→ ${step.model} is asked, with ${step.tools.length} ${step.tools.length === 1 ? 'tool' : 'tools'}`);
    if (step.kind === 'approval') console.log(`${step.approved ? '✓' : '✗'} ${step.name} ${JSON.stringify(step.input)}`);
    if (step.kind === 'result') console.log(`← ${step.name} ${step.failed ? 'failed' : 'answered'} in ${Math.round(step.tookMs)} ms`);
  },
});
console.log(ended === 'answered' ? `\n${answer}` : `It ended: ${ended}`);
await clients.close();
