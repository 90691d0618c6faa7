/** What a packed file needs of the library; `pack` builds it in. */
export { defineServer } from '../offers/define-server.js';
export { offers } from '../offers/choose.js';
export { freezeDocuments } from '../sources/rest/frozen-documents.js';
export { freezeShapes } from '../sources/functions/frozen-shapes.js';
export { wrapFunctions } from '../sources/functions/wrap-functions.js';
export { runPacked } from './run-packed.js';
