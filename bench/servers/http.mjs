import { serveHttp } from 'jexo';
import server from './definition.mjs';
await serveHttp(server, { port: Number(process.argv[2]) });
