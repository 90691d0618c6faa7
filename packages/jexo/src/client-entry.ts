/**
 * The client alone, for pages: connects over HTTP, to one server or many, and turns tools into functions of chat models and back. A server
 * made with `defineServer` of `jexo` can be connected to in the page itself.
 */
export { JexoError, isJexoError, type JexoErrorCode } from './errors.js';
export { connect } from './client/connect-in-browser.js';
export { connectAll, type UrlWithOptions } from './client/connect-many-in-browser.js';
export type { Attendant, Clients, ClientsOptions, Served, ServerState, ServerStatus } from './client/clients.js';
export type { CallOptions, Client, ClientOptions } from './client/client.js';
export { chatCompletions, type ChatCompletionsOptions } from './models/chat-completions.js';
export { functionSet, type FunctionDefinition, type FunctionSet } from './models/function-set.js';
export { RpcError, errorCodes } from './protocol/json-rpc.js';
