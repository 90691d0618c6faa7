/** Who may talk to a local server: the defence against DNS rebinding (Transports, "Security Warning"). */
export interface GateOptions {
  /** Host names, without port, a request may be addressed to. `'*'` allows any. */
  readonly allowedHosts: readonly string[];
  /** Origins of web pages that may call, beside those on an allowed host: `https://desk.example`. `'*'` allows any. */
  readonly allowedOrigins?: readonly string[];
}

export const loopbackNames: readonly string[] = ['127.0.0.1', 'localhost', '[::1]'];

export interface Gate {
  /** Why the request is refused, or undefined when it may pass. A missing Origin is fine: only browsers send one. */
  refuses(host: string | undefined, origin: string | undefined): string | undefined;
}

export function createGate({ allowedHosts, allowedOrigins = [] }: GateOptions): Gate {
  const hosts = new Set(allowedHosts.map((host) => host.toLowerCase()));
  const origins = new Set(allowedOrigins.map((origin) => origin.toLowerCase()));
  const hostAllowed = (host: string) => hosts.has('*') || hosts.has(host.replace(/:\d+$/, '').toLowerCase());
  const originAllowed = (origin: string, host: string) => {
    // Where any host may reach the server, a page may call the server it came from; over plain HTTP only by its address, since a name
    // can be made to lead here by whoever owns it (DNS rebinding), and only TLS proves that it does.
    const [, scheme, own] = /^(https?):\/\/(.*)$/.exec(origin) ?? [];
    if (hosts.has('*') && own === host && (scheme === 'https' || isAddress(host))) return true;
    if (origins.has('*') || origins.has(origin.toLowerCase())) return true;
    const found = /^https?:\/\/(\[[^\]]+\]|[^:/]+)(?::\d+)?$/.exec(origin.toLowerCase());
    return found !== null && (hosts.has(found[1]!) || (hosts.has('*') && loopbackNames.includes(found[1]!)));
  };
  // The same few values come with every request; judging each once is enough.
  const knownHosts = remembered(hostAllowed);
  const knownOrigins = remembered((both) => originAllowed(...(both.split(' ') as [string, string])));
  return {
    refuses(host, origin) {
      // Two Host headers reach some runtimes as one with a comma.
      if (host === undefined || host.includes(',') || !knownHosts(host))
        return 'the Host header names a host this server does not answer for';
      if (origin !== undefined && !knownOrigins(`${origin} ${host}`)) return 'the Origin header names a page that may not call this server';
      return undefined;
    },
  };
}

/** True for `192.168.1.5:4300` and `[fe80::1]`: a host that is no name. */
function isAddress(host: string): boolean {
  return /^(?:\d{1,3}(?:\.\d{1,3}){3}|\[[0-9a-f:.]+\])(?::\d+)?$/i.test(host);
}

function remembered(judge: (value: string) => boolean): (value: string) => boolean {
  const verdicts = new Map<string, boolean>();
  return (value) => {
    const known = verdicts.get(value);
    if (known !== undefined) return known;
    const verdict = judge(value);
    if (verdicts.size < 1000) verdicts.set(value, verdict);
    return verdict;
  };
}
