/** How a service wants to be told who is calling, as OpenAPI's security schemes say it. */
export type SecurityScheme =
  | { readonly type: 'apiKey'; readonly in: 'header' | 'query' | 'cookie'; readonly name: string }
  | { readonly type: 'http'; readonly scheme: string }
  | { readonly type: 'oauth2'; readonly tokenUrl?: string; readonly scopes: readonly string[] }
  | { readonly type: 'openIdConnect' }
  | { readonly type: 'mutualTLS' };

/** What a service says of its security. */
export interface Secured {
  readonly title: string;
  readonly schemes: Readonly<Record<string, SecurityScheme>>;
  /** True when this was said from elsewhere, and so may not name what is read here. */
  readonly isRemote: boolean;
}

/** Security schemes that are needed together, with their scopes. */
export type SecurityNeeds = readonly { readonly scheme: string; readonly scopes: readonly string[] }[];
