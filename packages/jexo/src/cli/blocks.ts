import type { ContentBlock } from '../protocol/types.js';

/** A block of content as a terminal can show it. */
export function blockText(block: ContentBlock): string {
  switch (block.type) {
    case 'text':
      return block.text;
    case 'image':
    case 'audio':
      return `[${block.type} ${block.mimeType}, ${Math.floor((block.data.length * 3) / 4)} bytes]`;
    case 'resource':
      return 'text' in block.resource
        ? block.resource.text
        : `[${block.resource.uri}, ${Math.floor((block.resource.blob.length * 3) / 4)} bytes]`;
    case 'resource_link':
      return `${block.title ?? block.name}: ${block.uri}`;
  }
}
