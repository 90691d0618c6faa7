import type { Bundle } from '../bundle.js';
import { copiesBelow, dependenciesOf, environmentFile, needs, slugOf, versionOf } from './names.js';
import type { PackForm } from './form.js';

const port = 4300;

/** A folder from which an image is built, with a compose file. */
export const containerForm: PackForm = {
  name: 'container',
  about: 'a Dockerfile with what goes into the image, and a compose file',
  entry: 'run',
  make(bundle, { baseImage = 'node:22-bookworm-slim', publicUrl }) {
    const name = slugOf(bundle);
    const dependencies = dependenciesOf(bundle);
    const hasPackages = Object.keys(dependencies).length > 0;
    return {
      files: {
        Dockerfile: { text: dockerfile(bundle, baseImage, hasPackages) },
        '.dockerignore': { text: '*\n!app\n' },
        'compose.yaml': { text: compose(bundle, name, publicUrl) },
        '.env.example': { text: environmentFile(bundle) || '# It needs no variables.\n' },
        'app/server.mjs': { text: bundle.code, isRun: true },
        'app/package.json': {
          text: `${JSON.stringify({ name, version: versionOf(bundle), private: true, type: 'module', dependencies }, null, 2)}\n`,
        },
      },
      copies: copiesBelow(bundle, 'app/'),
      start: 'app/server.mjs',
      next: [
        ...needs(bundle),
        'Copy .env.example to .env, fill it in, then: docker compose up --build',
        `It answers at http://127.0.0.1:${port}/mcp; put a proxy with TLS in front, and add --keys or --public-url in compose.yaml.`,
      ],
    };
  },
};

function dockerfile({ info }: Bundle, baseImage: string, hasPackages: boolean): string {
  const title = JSON.stringify(info.title ?? info.name);
  return `# The base is an argument, so that it can be pinned by its digest: --build-arg BASE=node@sha256:…
ARG BASE=${baseImage}

FROM \${BASE} AS build
WORKDIR /app
COPY app/package.json ./
${hasPackages ? 'RUN npm install --omit=dev --ignore-scripts --no-audit --no-fund\n' : ''}COPY app/ ./
# What cannot be read here would not be read there either.
RUN node server.mjs --version

FROM \${BASE}
LABEL org.opencontainers.image.title=${title} org.opencontainers.image.version=${JSON.stringify(info.version)}
ENV NODE_ENV=production
WORKDIR /app
COPY --from=build --chown=root:root /app ./
# Nobody in the image may write to it.
USER node
EXPOSE ${port}
HEALTHCHECK --interval=15s --timeout=3s --start-period=10s CMD ["node", "-e", "fetch('http://127.0.0.1:${port}/ready').then((r) => process.exit(r.ok ? 0 : 1), () => process.exit(1))"]
ENTRYPOINT ["node", "server.mjs"]
CMD ["--http", "${port}", "--host", "0.0.0.0", "--open"]
`;
}

function compose({ settings, packages }: Bundle, name: string, publicUrl: string | undefined): string {
  const command = ['--http', String(port), '--host', '0.0.0.0', '--open', ...(publicUrl === undefined ? [] : ['--public-url', publicUrl])];
  const [database] = databases.filter((each) => packages.includes(each.package));
  const lines = settings.map(({ variable }) => `      ${variable}: \${${variable}:?set it in .env}`);
  return `services:
  ${name}:
    build: .
    image: ${name}
    command: ${JSON.stringify(command)}
    # Only this machine reaches it; a proxy with TLS stands in front.
    ports: ["127.0.0.1:${port}:${port}"]
    read_only: true
    tmpfs: [/tmp]
    cap_drop: [ALL]
    security_opt: ["no-new-privileges:true"]
    restart: unless-stopped
    stop_grace_period: 15s
${lines.length === 0 ? '' : `    environment:\n${lines.join('\n')}\n`}${database === undefined ? '' : `    depends_on: [${database.service}]\n\n${database.yaml}`}`;
}

/** The database that a server reads, to start with; its data stays in a volume. */
const databases = [
  {
    package: 'pg',
    service: 'postgres',
    yaml: `  postgres:
    image: postgres:16
    environment:
      POSTGRES_PASSWORD: \${POSTGRES_PASSWORD:?set it in .env}
    volumes: ["postgres:/var/lib/postgresql/data"]
    restart: unless-stopped

volumes:
  postgres:
`,
  },
  {
    package: 'mysql2',
    service: 'mariadb',
    yaml: `  mariadb:
    image: mariadb:11
    environment:
      MARIADB_ROOT_PASSWORD: \${MARIADB_ROOT_PASSWORD:?set it in .env}
    volumes: ["mariadb:/var/lib/mysql"]
    restart: unless-stopped

volumes:
  mariadb:
`,
  },
] as const;
