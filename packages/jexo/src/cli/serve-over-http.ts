import type { Metrics } from '../middleware/metrics.js';
import type { Server } from '../offers/define-server.js';
import type { ServeDefaults } from '../plans/serve-settings.js';
import { httpBySettings } from '../running/http-by-settings.js';
import { listenToOthers } from '../running/hand-on.js';
import { workerSelf } from '../running/workers.js';
import { serveHttp } from '../transports/http/serve-http.js';
import type { WireTap } from '../transports/link.js';
import { announce } from './announce.js';
import { reportFault } from './connect-target.js';
import { stopOnSignal } from './stop-on-signal.js';
import { note, onErr, symbols } from './terminal.js';
import { counted as numbered } from '../protocol/counted.js';

/** What the command line wants of it beside the settings. */
export interface OverHttp {
  readonly tap: WireTap | undefined;
  readonly counted: Metrics | undefined;
  readonly asJson: boolean;
}

/** Serves over HTTP until a signal ends it. */
export async function serveOverHttp(server: Server, settings: ServeDefaults, { tap, counted, asJson }: OverHttp): Promise<void> {
  const self = workerSelf();
  const options = httpBySettings(settings, counted, self);
  const service = await serveHttp(server, { ...options, onFault: reportFault, ...(tap && { tap }) });
  counted?.follow({ service, server });
  const others = self && (await listenToOthers(self, service.route));
  // Whoever hears that it serves may stop it at once.
  const stopped = new Promise<void>((resolve) =>
    stopOnSignal(self !== undefined, () => {
      const { grace = 10 } = settings;
      if (service.inFlight > 0)
        note(
          `Waiting up to ${grace} s for ${numbered(service.inFlight, 'request')} in flight. ${self === undefined ? 'Press Ctrl-C again to end at once.' : ''}`,
        );
      return service.close().then(resolve);
    }),
  );
  if (self === undefined || self.number === 1) {
    const admin = service.adminPort === undefined ? {} : { admin: `http://${settings.adminHost ?? '127.0.0.1'}:${service.adminPort}` };
    const workers = (settings.workers ?? 1) > 1 ? { workers: settings.workers } : {};
    const next = `Try it with: jexo inspect ${service.url}   (in another terminal; stop this with Ctrl-C)`;
    await announce(server, service.url, next, asJson, { ...admin, ...workers });
    warnOfWildcard(settings);
  }
  await stopped;
  await options.store?.close();
  others?.close();
  others?.closeAllConnections();
  if (self === undefined) note('Stopped.');
}

function warnOfWildcard({ host = '', allowHosts, publicUrl, keys: file, issuers }: ServeDefaults): void {
  if (/^(0\.0\.0\.0|::)$/.test(host) && allowHosts === undefined && publicUrl === undefined && file === undefined && issuers === undefined)
    note(
      `${onErr('ochre', symbols.warn)} Every machine that reaches this one may call these tools, under any host name. Name the allowed ones with --allow-host.`,
    );
}
