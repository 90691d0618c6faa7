import { serveStdio } from 'jexo';
import server from './definition.mjs';
await (
  await serveStdio(server)
).closed;
