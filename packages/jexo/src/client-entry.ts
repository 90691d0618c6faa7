/**
 * The client alone, for pages: connects over HTTP, to one server or many, and turns tools into functions of chat models and back. A server
 * made with `defineServer` of `jexo` can be connected to in the page itself.
 *
 * @module jexo/client
 */
export { JexoError, isJexoError, type JexoErrorCode } from './errors.js';
export { connect } from './client/connect-in-browser.js';
export { cameBack, popupVisit, signIn, type PopupVisitOptions } from './auth/sign-in/in-browser.js';
export type { SignIn, SignInOptions, SignInPage, Visit } from './auth/sign-in/sign-in.js';
export { memorySignIns, type KeptClient, type KeptServer, type KeptSignIn, type SignInStore } from './auth/sign-in/kept-sign-in.js';
export type { ClientAuth, RefusedRequest, SignInStep } from './transports/http/client-auth.js';
export { connectAll, type UrlWithOptions } from './client/connect-many-in-browser.js';
export type { Attendant, Clients, ClientsOptions, Served, ServerState, ServerStatus } from './client/clients.js';
export type { CallOptions, Client, ClientOptions } from './client/client.js';
export { chatCompletions, type ChatCompletionsOptions } from './models/chat-completions.js';
export { functionSet, type FunctionDefinition, type FunctionSet } from './models/function-set.js';
export { RpcError, errorCodes } from './protocol/json-rpc.js';
