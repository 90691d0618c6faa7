/** The whole engine in a page: a server as a value, called in memory; or the same client over HTTP, with `?url=`. */
import { connect, defineServer, prompt, resource, tool } from 'jexo';

const season = {
  type: 'object',
  properties: { colonies: { type: 'number', minimum: 1 }, season: { enum: ['spring', 'autumn'], default: 'spring' } },
  required: ['colonies'],
} as const;

const inThePage = defineServer({
  name: 'in_the_page',
  version: '1.0.0',
  offers: [
    tool('mix_syrup', { description: 'How much sugar and water to mix.', input: season }, (input, call) => {
      call.progress(1, 1, 'mixed');
      const sugarKg = input.season === 'autumn' ? input.colonies * 2 : input.colonies;
      return { sugarKg, waterL: input.season === 'autumn' ? sugarKg / 2 : sugarKg };
    }),
    tool('who', {}, async (_input, call) => {
      const { name } = (await call.ask('Who are you?', {
        type: 'object',
        properties: { name: { type: 'string' } },
        required: ['name'],
      })) as { name: string };
      return `A keeper called ${name}`;
    }),
    resource('alderwick://motto', {}, () => 'Slowly, and with smoke.'),
    prompt('begin', {}, () => 'Begin.'),
  ],
});

const story = document.querySelector('#story')!;
function say(text: string): void {
  story.append(Object.assign(document.createElement('li'), { textContent: text }));
}

async function tell(): Promise<void> {
  const url = new URLSearchParams(location.search).get('url');
  const client = await connect(url ?? inThePage, { elicitation: { form: () => ({ action: 'accept', content: { name: 'Anyone' } }) } });
  say(`connected to ${client.server.serverInfo.name}, protocol ${client.server.protocolVersion}`);
  say(`tools: ${(await client.tools()).map(({ name }) => name).join(', ')}`);
  const mixed = await client.call(
    'mix_syrup',
    { colonies: 12, season: 'autumn' },
    { onProgress: ({ message }) => say(`progress: ${message}`) },
  );
  say(`12 colonies in autumn: ${mixed.content[0]?.type === 'text' ? mixed.content[0].text : ''}`);
  const wrong = await client.call('mix_syrup', { colonies: 0 });
  say(`wrong input is refused: ${String(wrong.isError)}`);
  if (url === null) {
    const who = await client.call('who');
    say(who.content[0]?.type === 'text' ? who.content[0].text : '');
    const [motto] = (await client.read('alderwick://motto')).contents;
    say(motto && 'text' in motto ? motto.text : '');
  }
  await client.close();
  say('done');
}

tell().catch((error: Error) => say(`failed: ${error.message}`));
