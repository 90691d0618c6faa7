// The cooperative's registry: a plain HTTP service that knows nothing of the protocol. Its document is registry.openapi.yaml.
// Run it by itself with: node registry.mjs [port]   (the token is REGISTRY_TOKEN, or "beeswax" when there is none)
import { readFileSync } from 'node:fs';
import { createServer } from 'node:http';

const document = new URL('./registry.openapi.yaml', import.meta.url);

const names = { MR: 'Millrace', UC: 'Upper Croft', SM: 'Saltmarsh', FH: 'Fernhollow', QB: 'Quarry Bank', LM: 'Long Meadow' };
const counts = { MR: 8, UC: 8, SM: 6, FH: 7, QB: 6, LM: 7 };
const colours = ['white', 'yellow', 'red', 'green', 'blue'];
const lines = ['Heath', 'Weald', 'Fen'];
const notes = [
  'Calm, eggs seen.',
  'Two queen cells taken out.',
  'Strong flow, wax drawn.',
  'Chalkbrood on two frames.',
  'Stores low, fed.',
];

/** The registry as it stands at the start of every run: made by rule, without chance. */
function records() {
  const hives = Object.entries(counts).flatMap(([apiary, count], row) =>
    Array.from({ length: count }, (_, index) => ({
      id: `${apiary}-${String(index + 1).padStart(2, '0')}`,
      apiary,
      queen: { year: 2022 + ((row + index) % 5), line: lines[(row * 2 + index) % 3], colour: colours[(row + index) % 5] },
      strength: 3 + ((row * 3 + index * 2) % 7),
    })),
  );
  const inspections = new Map();
  hives.forEach(({ id: hive }, place) => {
    for (let visit = 0; visit < 3; visit++) {
      const id = inspections.size + 1;
      const date = `2026-0${4 + visit}-${String(2 + ((place * 5 + visit * 12) % 27)).padStart(2, '0')}`;
      inspections.set(id, { id, hive, date, note: notes[(place + visit) % notes.length], hasPhoto: false });
    }
  });
  return { hives, inspections, photos: new Map() };
}

/** Serves the registry at a port, 0 for any free one. */
export async function serveRegistry({ port = 4310, token = process.env.REGISTRY_TOKEN ?? 'beeswax' } = {}) {
  const { hives, inspections, photos } = records();
  const server = createServer((request, response) => {
    const chunks = [];
    request.on('data', (chunk) => chunks.push(chunk));
    request.on('end', () => {
      try {
        answer(request, Buffer.concat(chunks), response);
      } catch (error) {
        problem(response, 500, 'The registry failed', error.message);
      }
    });
  });

  const send = (response, status, value, headers = {}) => {
    response.writeHead(status, { 'content-type': 'application/json', ...headers });
    response.end(JSON.stringify(value));
  };
  const problem = (response, status, title, detail, more = {}) => {
    response.writeHead(status, { 'content-type': 'application/problem+json' });
    response.end(JSON.stringify({ type: 'about:blank', title, status, detail, ...more }));
  };

  function answer(request, body, response) {
    const url = new URL(request.url, 'http://registry');
    const [, room, key, part] = url.pathname.split('/').map(decodeURIComponent);
    const query = url.searchParams;
    // What the registry can do is no secret.
    if (url.pathname === '/openapi.yaml')
      return response.writeHead(200, { 'content-type': 'application/yaml' }).end(readFileSync(document));
    if (request.headers.authorization !== `Bearer ${token}`) return problem(response, 401, 'No token', 'The registry wants its token.');
    const route = `${request.method} /${room}${key === undefined ? '' : '/*'}${part === undefined ? '' : `/${part}`}`;
    const inspection = inspections.get(Number(key));
    if (room === 'inspections' && key !== undefined && inspection === undefined)
      return problem(response, 404, 'No such inspection', `There is no inspection ${key}.`);
    switch (route) {
      case 'GET /apiaries':
        return send(
          response,
          200,
          Object.entries(names).map(([code, name]) => ({ code, name, hives: counts[code] })),
        );
      case 'GET /hives': {
        const marked = query.get('marked')?.split(',');
        const found = hives.filter(
          ({ apiary, queen }) => apiary === (query.get('apiary') ?? apiary) && (marked?.includes(queen.colour) ?? true),
        );
        const from = Number(query.get('cursor')?.replace('after-', '') ?? 0);
        const until = from + Number(query.get('limit') ?? 10);
        return send(response, 200, { items: found.slice(from, until), next: until < found.length ? `after-${until}` : null });
      }
      case 'GET /hives/*': {
        const hive = hives.find(({ id }) => id === key);
        return hive === undefined
          ? problem(response, 404, 'No such hive', `There is no hive ${key}. Hives are named like MR-03.`)
          : send(response, 200, hive);
      }
      case 'GET /inspections': {
        const [page, limit] = [Number(query.get('page') ?? 1), Number(query.get('limit') ?? 20)];
        const found = [...inspections.values()]
          .filter(({ hive, date }) => hive === (query.get('hive') ?? hive) && date >= (query.get('since') ?? ''))
          .sort((a, b) => b.date.localeCompare(a.date) || a.id - b.id);
        query.set('page', page + 1);
        const more = page * limit < found.length ? { link: `</inspections?${query}>; rel="next"` } : {};
        return send(response, 200, found.slice((page - 1) * limit, page * limit), more);
      }
      case 'POST /inspections': {
        const given = JSON.parse(body.toString());
        const known = hives.some(({ id }) => id === given.hive);
        if (!known)
          return problem(response, 422, 'The inspection cannot be booked', `There is no hive ${given.hive}.`, {
            errors: [{ field: 'hive' }],
          });
        const id = Math.max(...inspections.keys()) + 1;
        inspections.set(id, { id, hive: given.hive, date: given.date, note: given.note, hasPhoto: false });
        return send(response, 201, inspections.get(id), { location: `/inspections/${id}` });
      }
      case 'GET /inspections/*':
        return send(response, 200, inspection);
      case 'PATCH /inspections/*': {
        const { note = inspection.note, date = inspection.date } = JSON.parse(body.toString());
        inspections.set(inspection.id, { ...inspection, note, date });
        return send(response, 200, inspections.get(inspection.id));
      }
      case 'POST /inspections/*/withdraw':
        inspections.delete(inspection.id);
        response.writeHead(204);
        return response.end();
      case 'POST /inspections/*/photo':
        return void new Response(body, { headers: { 'content-type': request.headers['content-type'] } }).formData().then(
          async (form) => {
            const photo = form.get('photo');
            if (!/^image\/(png|jpeg)$/.test(photo?.type ?? ''))
              return problem(response, 415, 'No picture', `A photo is a PNG or a JPEG, not ${photo?.type}.`);
            const bytes = Buffer.from(await photo.arrayBuffer());
            photos.set(inspection.id, { bytes, type: photo.type });
            inspections.set(inspection.id, { ...inspection, hasPhoto: true });
            return send(response, 201, { bytes: bytes.length, type: photo.type, caption: form.get('caption') });
          },
          () => problem(response, 415, 'No form', 'A photo is sent as multipart/form-data.'),
        );
      case 'GET /inspections/*/photo': {
        const photo = photos.get(inspection.id);
        if (photo === undefined) return problem(response, 404, 'No photo', `Inspection ${key} has no photo.`);
        response.writeHead(200, { 'content-type': photo.type });
        return response.end(photo.bytes);
      }
      default:
        return problem(response, 404, 'Nothing there', `The registry has nothing at ${request.method} ${url.pathname}.`);
    }
  }

  await new Promise((resolve, reject) => server.once('error', reject).listen(port, '127.0.0.1', resolve));
  return {
    url: `http://127.0.0.1:${server.address().port}`,
    token,
    close: () => new Promise((resolve) => server.close(resolve).closeAllConnections()),
  };
}

if (process.argv[1] !== undefined && import.meta.url.endsWith(process.argv[1].replaceAll('\\', '/').replace(/^.*\//, '/'))) {
  const { url } = await serveRegistry({ port: Number(process.argv[2] ?? 4310) });
  console.log(`The registry is at ${url}`);
}
