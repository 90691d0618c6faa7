/** What a packed file needs of the library; `pack` builds it in. */
export { defineServer } from '../offers/define-server.js';
export { thawServer } from '../offers/thaw.js';
export { wrapFunctions } from '../sources/functions/wrap-functions.js';
export { env } from '../sources/setting.js';
export { wrapDatabase } from '../sources/database/wrap-database.js';
export { bearer } from '../sources/http/auth.js';
export { wrapFolder } from '../sources/folder/wrap-folder.js';
export { wrapGraphql } from '../sources/graphql/wrap-graphql.js';
export { wrapTopics } from '../sources/live/wrap-topics.js';
export { wrapRest } from '../sources/rest/wrap-rest.js';
export { together } from '../offers/together.js';
export { runPacked } from './run-packed.js';
