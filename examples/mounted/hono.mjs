// An app of Hono with /mcp beside its own routes. Run: node hono.mjs
import { serve } from '@hono/node-server';
import { Hono } from 'hono';
import { fetchHandler } from 'jexo';
import { apiary, port, say } from './apiary.mjs';

const app = new Hono();
const mcp = fetchHandler(apiary, { allowedHosts: ['127.0.0.1', 'localhost'] });

app.get('/', (context) => context.text('The cooperative’s own page'));
app.all('/mcp', (context) => mcp(context.req.raw));

serve({ fetch: app.fetch, port, hostname: '127.0.0.1' }, (at) => say(at.port));
