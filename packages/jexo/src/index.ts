/**
 * The library: describe a server, wrap what exists, serve it, use it.
 *
 * @module jexo
 */
export { JexoError, isJexoError, type JexoErrorCode } from './errors.js';
export { offers, type Choice } from './offers/choose.js';
export type { Catalogue, Entry } from './offers/catalogue.js';
export type { ClientAbility, Session, SessionState } from './offers/session.js';
export type { Sees } from './offers/sight.js';
export type { Caller, ReadyOptions, Servable, SessionOptions } from './engine/servable.js';
export type {
  Bus,
  EventStore,
  KeptEvent,
  LimitStore,
  MaybePromise,
  Processes,
  SessionRecord,
  SessionStore,
  StateStore,
  Store,
  StreamHolder,
  StreamRest,
  JobEnd,
  TaskJob,
  TaskQueue,
  TaskRecord,
  TaskStore,
} from './engine/store.js';
export { memoryStore, type MemoryStoreOptions } from './stores/memory.js';
export { answer, type Answer } from './offers/answer.js';
export { urlElicitationRequired, type Asked, type AskOptions, type Call } from './offers/call.js';
export type { Completer, CompletionContext } from './offers/completion.js';
export { defineServer, isServer, type Server, type ServerDefinition } from './offers/define-server.js';
export { kept } from './offers/kept.js';
export { middleware, type Middleware, type RequestKind } from './offers/middleware.js';
export type { Offer, PromptOffer, ResourceOffer, TemplateOffer, ToolOffer } from './offers/offer.js';
export type { NeededSetting, Omission, ReadContext, Remark, Settings, Source, SourceContents } from './offers/source.js';
export { prompt, type PromptDefinition, type Rendered } from './offers/prompt.js';
export {
  notFound,
  resource,
  template,
  type Readable,
  type ResourceDefinition,
  type TemplateDefinition,
  type Variables,
} from './offers/resource.js';
export { view, type ViewOptions } from './sources/views/view.js';
export { type ViewOffer } from './offers/view.js';
export { withViews } from './offers/with-views.js';
export type { ToolAudience, ViewCsp, ViewPermissions } from './protocol/views.js';
export { tool, type ToolDefinition, type TypedTool } from './offers/tool.js';
export type { Infer, InferInput, Issue, JsonSchemaInput, Schema, StandardSchema } from './offers/schema.js';
export { env, type EnvSetting, type Setting } from './sources/setting.js';
export { apiKey, basic, bearer, clientCredentials, tokenExchange, type Auth } from './sources/http/auth.js';
export { inProcess, routesOf, type App } from './sources/rest/in-process.js';
export type { InputChange } from './sources/rest/operation-input.js';
export { wrapEndpoints, type Endpoint } from './sources/rest/wrap-endpoints.js';
export { wrapDatabase, type OpenQueryOptions, type WrapDatabaseOptions } from './sources/database/wrap-database.js';
export type { Restrictions, RowFilter } from './sources/database/restrict.js';
export { wrapFolder, type WrapFolderOptions } from './sources/folder/wrap-folder.js';
export type { Embed } from './sources/folder/build-index.js';
export type { ScanOptions } from './sources/folder/scan-folder.js';
export { wrapGraphql, type WrapGraphqlOptions } from './sources/graphql/wrap-graphql.js';
export type { ExploreOptions } from './sources/graphql/graphql-options.js';
export type { ScalarSchemas } from './sources/graphql/graphql-options.js';
export type { OperationsPlace } from './sources/graphql/graphql-options.js';
export type { SchemaPlace } from './sources/graphql/graphql-options.js';
export { wrapServer } from './targets/wrap-server.js';
export type { BridgedInput, WrapServerOptions } from './bridge/bridge-source.js';
export { followSwitches, type FollowedSwitches } from './running/switch-file.js';
export { oauth, type OAuthGuard, type OAuthOptions } from './auth/oauth/oauth.js';
export type { IntrospectionOptions } from './auth/oauth/introspect.js';
export { accounts, type Accounts, type AccountsOptions } from './auth/accounts/accounts.js';
export { redis, type RedisStoreOptions } from './stores/redis/redis.js';
export { workTasks, type TaskWorker, type WorkOptions } from './running/work-tasks.js';
export type { TaskRetry } from './offers/task-retry.js';
export { signIn } from './auth/sign-in/sign-in-here.js';
export type { SignIn, SignInOptions, SignInPage, Visit } from './auth/sign-in/sign-in.js';
export { serviceSignIn, type ServiceSignInOptions } from './auth/sign-in/service-sign-in.js';
export { browserVisit, pastedVisit, type BrowserVisitOptions } from './auth/sign-in/visits.js';
export { memorySignIns, type KeptClient, type KeptServer, type KeptSignIn, type SignInStore } from './auth/sign-in/kept-sign-in.js';
export { signInFile, type Keychain, type SignInFile } from './auth/sign-in/sign-in-file.js';
export { systemKeychain } from './auth/sign-in/keychain.js';
export type { ClientAuth, RefusedRequest, SignInStep } from './transports/http/client-auth.js';
export { keys, limitByKey, seenWithKey, type KeyStore } from './auth/keys.js';
export type { KeptKey } from './auth/key-file.js';
export { auditTable } from './sources/database/audit-table.js';
export { audit, verifyAudit, type AuditEntry, type AuditFault, type AuditOptions, type AuditStore } from './middleware/audit.js';
export { cache, type Cache, type CacheOptions } from './middleware/cache.js';
export { circuitBreaker, type CircuitBreakerOptions } from './middleware/circuit-breaker.js';
export { concurrency, type ConcurrencyOptions } from './middleware/concurrency.js';
export { logCalls, type LogCallsOptions } from './middleware/log-calls.js';
export { metrics, type Followed, type Metrics } from './middleware/metrics.js';
export { rateLimit, type RateLimitOptions } from './middleware/rate-limit.js';
export { redact, type RedactOptions } from './middleware/redact.js';
export { enableTraces, traces } from './middleware/traces.js';
export { retry, type RetryOptions } from './middleware/retry.js';
export { timeout } from './middleware/timeout.js';
export type { Selection } from './offers/selection.js';
export { chainTools, type ChainedTool, type ChainStep } from './offers/chain-tools.js';
export { wrapLive, type LiveOptions } from './sources/live/wrap-live.js';
export type { LiveAccess, LiveReading, LiveValue } from './sources/live/live-value.js';
export { wrapTopics, type TopicDescription, type TopicToWrite, type WrapTopicsOptions } from './sources/live/wrap-topics.js';
export type { PayloadType } from './sources/live/payload.js';
export { wrapRest, type WrapRestOptions } from './sources/rest/wrap-rest.js';
export { wrapFunctions, type WrapFunctionsOptions } from './sources/functions/wrap-functions.js';
export { serveStdio, type ServeStdioOptions, type StdioService } from './transports/serve-stdio.js';
export { serveHttp, type HttpService, type OwnRoute, type ServeHttpOptions } from './transports/http/serve-http.js';
export type { Authenticated, Authenticator, IncomingRequest } from './transports/http/authenticate.js';
export type { Seen } from './transports/http/forwarded.js';
export type { TlsFiles } from './transports/http/tls.js';
export { nodeHandler, type NodeHandler, type NodeHandlerOptions } from './transports/http/node-handler.js';
export type { WireEvent, WireTap } from './transports/link.js';
export { connect, type ConnectOptions, type ConnectTarget } from './targets/connect.js';
export { connectAll, type ConnectAllOptions, type ConnectAllTargets, type TargetWithOptions } from './targets/connect-all.js';
export type { Attendant, Clients, ClientsOptions, Served, ServerState, ServerStatus } from './client/clients.js';
export { openTarget, openTargets, type OpenOptions } from './targets/open-targets.js';
export type { EntryHow, Opened, OpenHow, Packable, Target, TargetKind, TargetOption } from './targets/target-kind.js';
export { connectLink, type CallOptions, type Client, type ClientOptions } from './client/connect-link.js';
export type { Asker, FormQuestion, PageQuestion, ServerAnswers } from './client/answer-server.js';
export type { TaskHandle } from './client/task-handle.js';
export type { CommandTarget } from './transports/child-process.js';
export type { Deviation, Link, LinkEvents } from './transports/link.js';
export { RpcError, errorCodes, type JsonRpcMessage } from './protocol/json-rpc.js';
export { newestRevision, revisions, type Revision } from './protocol/revisions.js';
export type { JexoErrorDetails } from './errors.js';
export type { Clock } from './engine/clock.js';
export type { Channel } from './engine/exchange.js';
export type { Agreement, Peer, PeerState, Remote, RequestOptions } from './engine/peer.js';
export type { TemplateValue } from './protocol/uri-template.js';
export type { FromJsonSchema } from './offers/from-json-schema.js';
export type { TaskLimits } from './engine/task-book.js';
export type { EventLimits } from './stores/memory-events.js';
export type { Request } from './offers/middleware.js';
export type { CompiledSchema } from './offers/schema.js';
export type { Page } from './offers/catalogue.js';
export type { Answered } from './client/answer-server.js';
export type { HostEntry } from './hosts/host-entry.js';
export type { ProjectFiles, ProjectInfo } from './projects/project-files.js';
export type { Peek } from './targets/peek.js';
export type { ModuleShape } from './sources/functions/shape.js';
export type { UpstreamOptions } from './sources/http/upstream.js';
export type { NodeListener } from './sources/rest/in-process.js';
export type { EndpointOptions } from './transports/http/endpoint.js';
export type { HttpLinkOptions } from './transports/http/http-connection.js';
export type { StdioLinkOptions } from './transports/stdio-link.js';
export type { ErrorObject, RequestId } from './protocol/json-rpc.js';
export type { JsonType } from './protocol/json-schema.js';
export type { UriTemplate } from './protocol/uri-template.js';
export type {
  Annotations,
  BlobResourceContents,
  TextResourceContents,
  PromptMessage,
  SamplingContent,
  ToolResultContent,
  ToolUseContent,
  SamplingMessage,
  AudioContent,
  CallToolResult,
  ClientCapabilities,
  Completion,
  CompletionRef,
  ContentBlock,
  CreateMessageParams,
  CreateMessageResult,
  ElicitResult,
  EmbeddedResource,
  GetPromptResult,
  Icon,
  ImageContent,
  Implementation,
  InitializeResult,
  JsonSchema,
  LogLevel,
  LogMessage,
  Meta,
  ProgressUpdate,
  Prompt,
  PromptArgument,
  ReadResourceResult,
  Resource,
  ResourceContents,
  ResourceLink,
  ResourceTemplate,
  Root,
  ServerCapabilities,
  Task,
  TaskStatus,
  TaskSupport,
  TextContent,
  Tool,
  ToolAnnotations,
} from './protocol/types.js';
export { chatCompletions, type ChatCompletionsOptions } from './models/chat-completions.js';
export { standIn } from './models/stand-in.js';
export { functionSet, type FunctionDefinition, type FunctionSet } from './models/function-set.js';
export type { Candidate, MatchedWord, Model, Move, TalkEntry, TalkImage, ToolCall, Turn, Usage } from './models/model.js';
export { fetchHandler, type FetchHandler, type FetchHandlerOptions } from './transports/http/fetch-handler.js';
export {
  approvals,
  approvalStore,
  type ApprovalRequest,
  type ApprovalRules,
  type ApprovalsOptions,
  type ApprovalStore,
  type Approve,
  type Decision,
  type KeptApproval,
  type PersonSays,
} from './conversation/approvals.js';
export { converse, type ConverseContext, type ConverseOptions } from './conversation/converse.js';
export { approvalFile, readRules } from './hosts/approval-file.js';
export { fileMemory, type FileMemory } from './hosts/memory-file.js';
export { conversationTrace } from './inspect/conversation-trace.js';
export { stepLog, type StepLog } from './hosts/step-log.js';
export { memory, type Memory } from './conversation/memory.js';
export type { DecidedBy, EndReason, Limits, Outcome, Step, StepEvent, TotalUsage } from './conversation/steps.js';
