// A server whose sessions are in a Redis: the port, the address of the Redis, and `add` or `burn`.
import { redis, serveHttp } from 'jexo';

const [port, store, which] = process.argv.slice(2);
const { default: server } = await import(which === 'burn' ? './burn.mjs' : './definition.mjs');
await serveHttp(server, { port: Number(port), store: redis(store), maxSessions: 200_000, maxSessionsPerAddress: 200_000 });
