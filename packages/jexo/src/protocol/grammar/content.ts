import { byMember, either, integer, oneOf, opt, shape, text } from '../check.js';
import { base64, uri, type Base, type Fields } from './base.js';

/** Blocks of content, and what resources hold. */
export function contentOf(base: Base) {
  const { r2, r3, innerMeta, title, icons, annotations } = base;
  const block = (type: string, fields: Fields) => shape({ type: oneOf(type), ...fields, annotations, ...innerMeta });
  const contents = either((value) =>
    shape({ uri, mimeType: opt(text), ...('blob' in value && !('text' in value) ? { blob: base64 } : { text }), ...innerMeta }),
  );
  const resourceFields: Fields = {
    uri,
    name: text,
    ...title,
    ...icons,
    description: opt(text),
    mimeType: opt(text),
    size: opt(integer),
    annotations,
    ...innerMeta,
  };
  const media = { data: base64, mimeType: text };
  const plain = { text: block('text', { text }), image: block('image', media), ...(r2 && { audio: block('audio', media) }) };
  const content = byMember('type', {
    ...plain,
    resource: block('resource', { resource: contents }),
    ...(r3 && { resource_link: shape({ type: oneOf('resource_link'), ...resourceFields }) }),
  });
  return { contents, resourceFields, plain, content };
}
export type Content = ReturnType<typeof contentOf>;
