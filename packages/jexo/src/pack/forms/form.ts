import type { Artefact } from '../artefact.js';
import type { Bundle, BundleOptions } from '../bundle.js';

/** What a form of packing may be told. */
export interface FormOptions {
  /** How the package and images are called where they are published. Default: the server's name. */
  readonly publishAs?: string;
  /** Where the server will be reached: `https://apiary.example/mcp`. */
  readonly publicUrl?: string;
  /** The image that a container starts from. */
  readonly baseImage?: string;
  /** A file with a private key (PEM, Ed25519) that signs the statement of a manifest. */
  readonly signKey?: string;
  /** True writes a source map beside the code. */
  readonly sourceMap?: boolean;
}

/** One way to pack. */
export interface PackForm {
  /** As `--as` names it. */
  readonly name: string;
  /** For the help, in a few words. */
  readonly about: string;
  /** What the code does; see `BundleOptions`. */
  readonly entry: NonNullable<BundleOptions['entry']>;
  /** @throws JexoError JEXO_PACK */
  make(bundle: Bundle, options: FormOptions): Artefact;
}
