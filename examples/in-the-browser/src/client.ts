/** Pages that serve nothing need the client only: `jexo/client` has a third of the library's size. */
import { connectAll, functionSet } from 'jexo/client';

const story = document.querySelector('#story')!;
function say(text: string): void {
  story.append(Object.assign(document.createElement('li'), { textContent: text }));
}

async function tell(): Promise<void> {
  const urls = new URLSearchParams(location.search).getAll('server');
  const clients = await connectAll(Object.fromEntries(urls.map((url, index) => [`server${index + 1}`, url])));
  for (const { name, state, error } of clients.servers()) say(`${name}: ${state}${error === undefined ? '' : `, ${error.message}`}`);
  const tools = await clients.tools();
  say(`tools: ${tools.map(({ name }) => name).join(', ')}`);
  const [first] = functionSet(tools).functions;
  say(`as functions of a chat model: ${first?.function.name ?? 'none'} and ${tools.length - 1} more`);
  const { structuredContent } = await clients.call('mix_syrup', { colonies: 12, season: 'autumn' });
  say(`12 colonies in autumn: ${JSON.stringify(structuredContent)}`);
  await clients.close();
  say('done');
}

tell().catch((error: Error) => say(`failed: ${error.message}`));
