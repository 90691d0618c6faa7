// The part of the story about the registry: a plain HTTP service with a token, wrapped by its document. What the tools do is
// looked up afterwards at the registry itself, not through them.
import { fileURLToPath } from 'node:url';
import { bearer, connect, defineServer, wrapRest } from 'jexo';
import { serveRegistry } from './registry.mjs';

const document = fileURLToPath(new URL('./registry.openapi.yaml', import.meta.url));
/** A very small picture. */
const photo = 'iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNkYPhfDwAChwGA60e6kgAAAABJRU5ErkJggg==';

export async function tellRegistryStory(print = console.log) {
  const line = (sign, text) => print(`  ${sign} ${text}`);
  const registry = await serveRegistry({ port: 0 });
  const server = defineServer({
    name: 'registry',
    version: '1.0.0',
    offers: [wrapRest(document, { baseUrl: registry.url, auth: bearer(registry.token), confirm: ['withdrawInspection'] })],
  });
  const client = await connect(server, {
    elicitation: {
      form({ message }) {
        line('?', `${message}  yes`);
        return { action: 'accept', content: {} };
      },
    },
  });
  /** At the registry itself, as anybody with the token would. */
  const atRegistry = async (path) => {
    const response = await fetch(registry.url + path, { headers: { authorization: `Bearer ${registry.token}` } });
    return response.headers.get('content-type').includes('json') ? response.json() : `${(await response.arrayBuffer()).byteLength} bytes`;
  };
  try {
    print('\nThe registry is a REST API with a token; its document makes it tools:');
    line('·', (await client.tools()).map(({ name }) => name).join(', '));
    const { items } = (await client.call('list_hives', { apiary: 'MR', limit: 3, pages: 3 })).structuredContent;
    line('←', `list_hives, three pages of three: ${items.map(({ id }) => id).join(', ')}`);
    const { id } = (await client.call('book_inspection', { hive: 'MR-03', date: '2026-07-01', note: 'Calm, egs seen.' })).structuredContent;
    line('←', `book_inspection: ${id}; the registry has: ${(await atRegistry(`/inspections/${id}`)).note}`);
    await client.call('correct_inspection', { id, note: 'Calm, eggs seen.' });
    line('←', `correct_inspection; the registry has: ${(await atRegistry(`/inspections/${id}`)).note}`);
    const stored = (await client.call('upload_photo', { id, photo, caption: 'Brood' })).structuredContent;
    line('←', `upload_photo: ${stored.bytes} bytes of ${stored.type}; the registry has: ${await atRegistry(`/inspections/${id}/photo`)}`);
    const [picture] = (await client.call('get_photo', { id })).content;
    line('←', `get_photo: ${picture.type} ${picture.mimeType}, ${picture.data === photo ? 'the same' : 'another one'}`);
    await client.call('withdraw_inspection', { id });
    line('←', `withdraw_inspection; the registry says: ${(await atRegistry(`/inspections/${id}`)).title}`);
    const refused = await client.call('book_inspection', { hive: 'XX-99', date: '2026-07-01', note: 'x' });
    line('✗', refused.content[0].text.split('\n')[0]);
  } finally {
    await client.close();
    await registry.close();
  }
}
