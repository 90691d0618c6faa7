/** The library for browsers: describe a server, connect to one in memory or over HTTP. */
export { JexoError, isJexoError, type JexoErrorCode } from './errors.js';
export { answer } from './offers/answer.js';
export { defineServer, isServer } from './offers/define-server.js';
export { middleware } from './offers/middleware.js';
export { tool } from './offers/offer.js';
export { connect } from './client/connect-in-browser.js';
export { RpcError, errorCodes } from './protocol/json-rpc.js';
export { newestRevision, revisions } from './protocol/revisions.js';
