import { createHash, createPrivateKey, createPublicKey, sign } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { JexoError, messageOf } from '../../errors.js';
import { toolOf } from '../../offers/catalogue.js';
import type { Bundle } from '../bundle.js';
import type { BuiltIn } from '../notices.js';
import { aboutOf, slugOf, versionOf } from './names.js';
import { packageForm } from './package.js';
import type { PackForm } from './form.js';

/** What registries and auditors want to know, beside the package. */
export const manifestForm: PackForm = {
  name: 'manifest',
  about: 'server.json for the open registry, a bill of materials and a statement of what is inside, with the package',
  entry: 'import',
  make(bundle, options) {
    const made = packageForm.make(bundle, options);
    const files = Object.fromEntries(Object.entries(made.files).map(([path, file]) => [`package/${path}`, file]));
    const bill = `${JSON.stringify(billOf(bundle), null, 2)}\n`;
    const registry = `${JSON.stringify(registryEntry(bundle, options), null, 2)}\n`;
    const statement = `${JSON.stringify(statementOf(bundle, { ...textsOf(files), 'sbom.cdx.json': bill, 'server.json': registry }), null, 2)}\n`;
    return {
      files: {
        ...files,
        'server.json': { text: registry },
        'sbom.cdx.json': { text: bill },
        'statement.json': { text: statement },
        ...(options.signKey !== undefined && { 'statement.sig': { text: signed(statement, options.signKey) } }),
      },
      copies: made.copies.map(({ path, as }) => ({ path, as: `package/${as}` })),
      start: 'package/server.mjs',
      next: [
        'server.json names the package under your own domain: change name, and identifier where you publish under another.',
        options.signKey === undefined
          ? 'statement.json is not signed: give an Ed25519 key with --sign-key.'
          : 'Check the signature with: openssl pkeyutl -verify -rawin -pubin -inkey public.pem -in statement.json -sigfile <(sed 1d statement.sig | base64 -d)',
      ],
    };
  },
};

const textsOf = (files: Readonly<Record<string, { readonly text: string }>>) =>
  Object.fromEntries(Object.entries(files).map(([path, { text }]) => [path, text]));

function registryEntry(bundle: Bundle, { publishAs, publicUrl }: Parameters<PackForm['make']>[1]): object {
  const { info, settings } = bundle;
  const slug = slugOf(bundle);
  const variables = settings.map(({ variable, purpose, secret }) => ({
    name: variable,
    description: purpose,
    isRequired: true,
    isSecret: secret,
  }));
  return {
    $schema: 'https://static.modelcontextprotocol.io/schemas/2025-12-11/server.schema.json',
    name: `com.example/${slug}`,
    ...(info.title !== undefined && { title: info.title.slice(0, 100) }),
    description: aboutOf(bundle).slice(0, 100),
    version: versionOf(bundle),
    ...(info.websiteUrl !== undefined && { websiteUrl: info.websiteUrl }),
    packages: [
      {
        registryType: 'npm',
        identifier: publishAs ?? slug,
        version: versionOf(bundle),
        transport: { type: 'stdio' },
        ...(variables.length > 0 && { environmentVariables: variables }),
      },
    ],
    ...(publicUrl !== undefined && { remotes: [{ type: 'streamable-http', url: publicUrl }] }),
  };
}

/** CycloneDX 1.6. Nothing in it changes from one pack to the next of the same input. */
function billOf(bundle: Bundle): object {
  const component = ({ name, version, license }: Pick<BuiltIn, 'name' | 'version' | 'license'>) => ({
    type: 'library',
    'bom-ref': `pkg:npm/${name.replace('@', '%40')}@${version}`,
    name,
    version,
    scope: 'required',
    licenses: [
      /[ ()]/.test(license)
        ? { expression: license }
        : /^[\w.+-]+$/.test(license)
          ? { license: { id: license } }
          : { license: { name: license } },
    ],
    purl: `pkg:npm/${name.replace('@', '%40')}@${version}`,
  });
  return {
    bomFormat: 'CycloneDX',
    specVersion: '1.6',
    version: 1,
    metadata: { component: { type: 'application', 'bom-ref': 'server', name: bundle.info.name, version: bundle.info.version } },
    components: bundle.builtIn.map(component),
    dependencies: [
      { ref: 'server', dependsOn: bundle.builtIn.map(({ name, version }) => `pkg:npm/${name.replace('@', '%40')}@${version}`) },
    ],
  };
}

const sha256 = (text: string) => createHash('sha256').update(text).digest('hex');

/** What is inside: files by their hashes, tools by the hash of what a model sees of each. */
function statementOf(bundle: Bundle, texts: Readonly<Record<string, string>>): object {
  const { info, catalogue, builtIn, settings } = bundle;
  return {
    server: { name: info.name, version: info.version },
    files: Object.fromEntries(Object.entries(texts).map(([path, text]) => [path, sha256(text)])),
    tools: Object.fromEntries([...catalogue.tools.values()].map(({ offer }) => [offer.name, sha256(JSON.stringify(toolOf(offer)))])),
    needs: settings.map(({ variable }) => variable),
    packages: builtIn.map(({ name, version }) => `${name}@${version}`),
  };
}

/** The public key's fingerprint, then the signature in base64. @throws JexoError JEXO_PACK */
function signed(text: string, keyFile: string): string {
  try {
    const key = createPrivateKey(readFileSync(keyFile));
    if (key.asymmetricKeyType !== 'ed25519') throw new Error(`it is of type ${key.asymmetricKeyType ?? 'unknown'}, not Ed25519`);
    const fingerprint = createHash('sha256')
      .update(createPublicKey(key).export({ type: 'spki', format: 'der' }))
      .digest('base64url');
    return `ed25519 ${fingerprint}\n${sign(null, Buffer.from(text), key).toString('base64')}\n`;
  } catch (error) {
    throw new JexoError('JEXO_PACK', `The key ${keyFile} cannot sign: ${messageOf(error)}`, {
      where: keyFile,
      next: 'Make one with: openssl genpkey -algorithm ed25519 -out sign.pem',
      cause: error,
    });
  }
}
