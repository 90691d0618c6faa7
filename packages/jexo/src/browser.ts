/** The library for browsers: describe a server, connect to one in memory or over HTTP. */
export { JexoError, isJexoError, type JexoErrorCode } from './errors.js';
export { answer } from './offers/answer.js';
export { defineServer, isServer } from './offers/define-server.js';
export { middleware } from './offers/middleware.js';
export { urlElicitationRequired } from './offers/call.js';
export { prompt } from './offers/prompt.js';
export { notFound, resource, template } from './offers/resource.js';
export { tool } from './offers/tool.js';
export { connect } from './client/connect-in-browser.js';
export { RpcError, errorCodes } from './protocol/json-rpc.js';
export { newestRevision, revisions } from './protocol/revisions.js';
export { fetchHandler } from './transports/http/fetch-handler.js';
