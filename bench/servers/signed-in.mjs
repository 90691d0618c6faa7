import { oauth, serveHttp } from 'jexo';
import bare from './definition.mjs';

const [port, issuer] = process.argv.slice(2);
await serveHttp(bare, { port: Number(port), auth: oauth({ issuer, resource: `http://127.0.0.1:${port}/mcp`, scopes: ['hives:read'] }) });
