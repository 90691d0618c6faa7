import type { Bundle } from '../bundle.js';
import { copiesBelow, dependenciesOf, environmentFile, needs, slugOf, versionOf } from './names.js';
import type { PackForm } from './form.js';

const port = 4300;

/** A unit for systemd, with snippets for a proxy in front. */
export const serviceForm: PackForm = {
  name: 'service',
  about: 'a unit for systemd, with a file for its environment and snippets for a proxy',
  entry: 'run',
  make(bundle, { publicUrl = 'https://apiary.example/mcp' }) {
    const name = slugOf(bundle);
    const { host, pathname } = new URL(publicUrl);
    const dependencies = dependenciesOf(bundle);
    const hasPackages = Object.keys(dependencies).length > 0;
    return {
      files: {
        'app/server.mjs': { text: bundle.code, isRun: true },
        ...(hasPackages && {
          'app/package.json': {
            text: `${JSON.stringify({ name, version: versionOf(bundle), private: true, type: 'module', dependencies }, null, 2)}\n`,
          },
        }),
        [`${name}.service`]: { text: unit(bundle, name, publicUrl) },
        [`${name}.env.example`]: { text: `# Copy to /etc/${name}.env (mode 0600, owner root).\n${environmentFile(bundle)}` },
        'nginx.conf': { text: nginx(host, pathname) },
        'caddy.conf': { text: `${host} {\n\treverse_proxy 127.0.0.1:${port} {\n\t\tflush_interval -1\n\t}\n}\n` },
        'INSTALL.md': { text: install(name, hasPackages) },
      },
      copies: copiesBelow(bundle, 'app/'),
      start: 'app/server.mjs',
      next: [...needs(bundle), 'The steps are in INSTALL.md. Put the name of your host into the unit and into the proxy’s snippet.'],
    };
  },
};

function unit({ info }: Bundle, name: string, publicUrl: string): string {
  return `[Unit]
Description=${(info.title ?? info.name).replaceAll(/\s+/g, ' ')}
After=network-online.target
Wants=network-online.target

[Service]
ExecStart=/usr/bin/env node /opt/${name}/app/server.mjs --http ${port} --public-url ${publicUrl.replaceAll('%', '%%')} --proxy loopback --log %L/${name}/calls.log
EnvironmentFile=-/etc/${name}.env
Environment=NODE_ENV=production
WorkingDirectory=/opt/${name}/app
Restart=on-failure
RestartSec=2
TimeoutStopSec=20
KillSignal=SIGTERM

DynamicUser=yes
LogsDirectory=${name}
StateDirectory=${name}
UMask=0077
ProtectSystem=strict
ProtectHome=yes
PrivateTmp=yes
PrivateDevices=yes
PrivateUsers=yes
ProtectClock=yes
ProtectHostname=yes
ProtectKernelLogs=yes
ProtectKernelModules=yes
ProtectKernelTunables=yes
ProtectControlGroups=yes
ProtectProc=invisible
ProcSubset=pid
NoNewPrivileges=yes
RestrictSUIDSGID=yes
RestrictRealtime=yes
RestrictNamespaces=yes
RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX
LockPersonality=yes
RemoveIPC=yes
CapabilityBoundingSet=
AmbientCapabilities=
SystemCallArchitectures=native
SystemCallFilter=@system-service
SystemCallFilter=~@privileged @resources
# V8 writes the code it runs: MemoryDenyWriteExecute cannot be set.

[Install]
WantedBy=multi-user.target
`;
}

function nginx(host: string, path: string): string {
  const below = path.replace(/\/[^/]*$/, '/');
  return `upstream jexo { server 127.0.0.1:${port}; keepalive 64; }
server {
  # listen 443 ssl; ssl_certificate …; ssl_certificate_key …;
  listen 80;
  server_name ${host};
  location ${below} {
    proxy_pass http://jexo;
    proxy_http_version 1.1;
    proxy_set_header Connection "";
    proxy_set_header Host $host;
    proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for;
    proxy_set_header X-Forwarded-Host $host;
    proxy_set_header X-Request-Id $request_id;
    # Events as they come, and streams that may be silent.
    proxy_buffering off;
    proxy_read_timeout 1h;
    proxy_next_upstream error timeout http_503 non_idempotent;
  }
}
`;
}

const install = (name: string, hasPackages: boolean) => `# Installing ${name}

As root, on a machine with Node 20 or later and systemd:

\`\`\`sh
mkdir -p /opt/${name} && cp -r app /opt/${name}/
${hasPackages ? `(cd /opt/${name}/app && npm install --omit=dev --ignore-scripts)\n` : ''}install -m 0600 ${name}.env.example /etc/${name}.env     # then fill it in
install -m 0644 ${name}.service /etc/systemd/system/
systemctl daemon-reload && systemctl enable --now ${name}
systemctl status ${name}; curl http://127.0.0.1:${port}/ready
\`\`\`

Logs of calls are in /var/log/${name}/calls.log, everything else in the journal. \`systemd-analyze security ${name}\` shows how much it may do.
nginx.conf and caddy.conf are snippets for a proxy with TLS. Keys: make a file with \`jexo keys add\`, and add \`--keys\` to ExecStart.
`;
