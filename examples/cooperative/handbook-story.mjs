// The part of the demo's story about a folder: the handbook is searched, and the section that was found is read.
import { fileURLToPath } from 'node:url';
import { connect, defineServer, wrapFolder } from 'jexo';

const folder = fileURLToPath(new URL('./handbook', import.meta.url));

export async function tellHandbookStory(print = console.log) {
  const line = (sign, text) => print(`  ${sign} ${text}`);
  const handbook = defineServer({ name: 'handbook', version: '1.0.0', offers: [wrapFolder(folder, { search: true })] });
  const client = await connect(handbook);
  try {
    print('\nA folder of documents is searched section by section, and what is found can be read and cited:');
    const words = 'how many kilograms of stores does a colony need for winter';
    line('→', words);
    const { hits } = (await client.call('search_handbook', { words, limit: 2 })).structuredContent;
    for (const { uri, snippet } of hits) line('←', `${uri}  ${snippet.slice(0, 90)}`);
    const { content } = await client.call('read_handbook', { uri: 'handbook://winter/stores.md#winter-stores' });
    line('←', content[0].text.split('\n').at(-1));
  } finally {
    await client.close();
    await handbook.close();
  }
}
