import { identifier, list, matching, number, object, oneOf, opt, shape, share, text, type Check, type Optional } from '../check.js';
import { since, type Revision } from '../revisions.js';

export const maybe =
  (check: Check): Check =>
  (value, path) =>
    value === undefined ? undefined : check(value, path);
export const uri = matching('a URI', /^[A-Za-z][A-Za-z0-9+.-]*:\S*$/);
export const base64 = text;
export const role = oneOf('user', 'assistant');
export const pageOf = (key: string, item: Check, metaFields: Record<string, Optional>) =>
  shape({ ...metaFields, nextCursor: opt(text), [key]: list(item) });

export const relatedTask = shape({ taskId: text });
export function metaFields(revision: Revision): Record<string, Optional> {
  return { _meta: opt(since(revision, '2025-11-25') ? shape({ 'io.modelcontextprotocol/related-task': opt(relatedTask) }) : object) };
}
export function meta(revision: Revision): Check {
  return shape(metaFields(revision));
}
export const urlRequired = shape({ elicitations: list(shape({ mode: oneOf('url'), message: text, elicitationId: text, url: uri })) });

export type Fields = Record<string, Check | Optional>;
/** Fields that a revision knows; none in one that does not. */
export const when = (known: boolean, fields: Fields): Fields => (known ? fields : {});

/** What the messages of one revision have in common. */
export function baseOf(revision: Revision) {
  const r2 = since(revision, '2025-03-26');
  const r3 = since(revision, '2025-06-18');
  const r4 = since(revision, '2025-11-25');
  const withMeta = metaFields(revision);
  const innerMeta = when(r3, withMeta as Fields);
  const request: Fields = {
    _meta: opt(shape({ progressToken: opt(identifier), ...when(r4, { 'io.modelcontextprotocol/related-task': opt(relatedTask) }) })),
  };
  const asTask = when(r4, { task: opt(shape({ ttl: opt(number) })) });
  const title = when(r3, { title: opt(text) });
  const icon = shape({ src: uri, mimeType: opt(text), sizes: opt(list(text)), theme: opt(oneOf('light', 'dark')) });
  const icons = when(r4, { icons: opt(list(icon)) });
  const annotations = opt(shape({ audience: opt(list(role)), priority: opt(share), ...when(r3, { lastModified: opt(text) }) }));
  const implementation = shape({
    name: text,
    version: text,
    ...title,
    ...when(r4, { description: opt(text), websiteUrl: opt(uri), icons: opt(list(icon)) }),
  });
  return { r2, r3, r4, withMeta, innerMeta, request, asTask, title, icon, icons, annotations, implementation };
}
export type Base = ReturnType<typeof baseOf>;
