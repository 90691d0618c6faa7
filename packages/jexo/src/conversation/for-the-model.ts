import type { TalkImage } from '../models/model.js';
import type { CallToolResult, ContentBlock, ReadResourceResult } from '../protocol/types.js';

/** What a model is given: a text, and images where it takes them. */
export interface ForTheModel {
  readonly text: string;
  readonly images: readonly TalkImage[];
}

/** A tool's result as a model takes it. Sounds, files and, for a model that takes none, images are named in place of their bytes. */
export function resultForModel({ content, structuredContent }: CallToolResult, takesImages: boolean): ForTheModel {
  const images: TalkImage[] = [];
  const texts = content.map((block) => blockForModel(block, takesImages, images));
  // Older servers give the structure only, newer ones its text beside it.
  if (structuredContent !== undefined && !content.some(({ type }) => type === 'text')) texts.unshift(JSON.stringify(structuredContent));
  const text = texts.filter((each) => each !== '').join('\n');
  return { text: text === '' ? '(The tool answered with nothing.)' : text, images };
}

/** A resource's contents as a model takes them. */
export function resourceForModel({ contents }: ReadResourceResult, takesImages: boolean): ForTheModel {
  const images: TalkImage[] = [];
  const texts = contents.map((resource) => blockForModel({ type: 'resource', resource }, takesImages, images));
  return { text: texts.join('\n'), images };
}

/** One block of a message or a result. */
export function blockForModel(block: ContentBlock, takesImages: boolean, images: TalkImage[]): string {
  switch (block.type) {
    case 'text':
      return block.text;
    case 'image':
      return imageForModel(block.mimeType, block.data, takesImages, images);
    case 'audio':
      return `[a sound, ${block.mimeType}, ${sizeOf(block.data)}: not shown]`;
    case 'resource_link':
      return `[a resource: ${block.uri}${block.name === undefined ? '' : `, ${block.name}`}]`;
    case 'resource': {
      const { resource } = block;
      if ('text' in resource) return `${resource.uri}:\n${resource.text}`;
      if (resource.mimeType?.startsWith('image/')) return imageForModel(resource.mimeType, resource.blob, takesImages, images);
      return `[a file: ${resource.uri}, ${resource.mimeType ?? 'of an unknown type'}, ${sizeOf(resource.blob)}: not shown]`;
    }
    default:
      return `[${String((block as { type?: unknown }).type)}: not shown]`;
  }
}

function imageForModel(mimeType: string, data: string, takesImages: boolean, images: TalkImage[]): string {
  if (!takesImages) return `[an image, ${mimeType}, ${sizeOf(data)}: not shown]`;
  images.push({ mimeType, data });
  return `[image ${images.length}]`;
}

/** Of base64, which takes four characters for three bytes. */
function sizeOf(base64: string): string {
  const bytes = Math.floor((base64.length * 3) / 4);
  return bytes < 1000 ? `${bytes} bytes` : `${(bytes / 1000).toFixed(1)} kB`;
}
