import { fetchNear } from './fetch-near.js';
import { createSignIn, type SignIn, type SignInOptions } from './sign-in.js';

/**
 * Signs in at servers that want it, by OAuth 2.1: finds the authorization server (RFC 9728, RFC 8414, OpenID Connect Discovery), registers where
 * there is no id yet (RFC 7591), sends a person there with PKCE, `state` and `resource`, renews tokens before they end, and asks for more when a call
 * needs it. Tokens go to the server they are for, in a header, and nowhere else (Authorization).
 *
 * @example
 * const client = await connect('https://apiary.example/mcp', { auth: signIn({ visit: browserVisit(), store: signInFile() }) });
 */
export function signIn(options: SignInOptions = {}): SignIn {
  return createSignIn(options, (endpoint) => options.fetch ?? fetchNear(endpoint));
}
