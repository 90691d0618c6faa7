import { defineServer, keys, logCalls, metrics, serveHttp } from 'jexo';
import bare from './definition.mjs';

const [port, file, log] = process.argv.slice(2);
const counted = metrics();
const server = defineServer({ ...bare.definition, middleware: [logCalls({ file: log }), counted] });
await serveHttp(server, { port: Number(port), auth: keys(file) });
