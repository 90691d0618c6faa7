// An app of Express with /mcp beside its own routes. Run: node express.mjs
import express from 'express';
import { nodeHandler } from 'jexo';
import { apiary, port, say } from './apiary.mjs';

const app = express();
const mcp = nodeHandler(apiary);

app.get('/', (_request, response) => response.send('The cooperative’s own page'));
// Bodies may be parsed in front: Jexo takes what it finds.
app.all('/mcp', express.json(), (request, response) => mcp(request, response));

const listening = app.listen(port, '127.0.0.1', () => say(listening.address().port));
