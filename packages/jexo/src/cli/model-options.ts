import { chatCompletions, type ChatCompletionsOptions } from '../models/chat-completions.js';
import type { Model } from '../models/model.js';
import { JexoError } from '../errors.js';

export interface ModelOptions {
  readonly modelUrl?: string;
  readonly model?: string;
}

/**
 * The model that `--model-url` and `--model` name; undefined for neither. Its key is read from JEXO_MODEL_KEY.
 * @throws JexoError JEXO_USAGE when one of the two is missing
 */
export function modelOf({ modelUrl, model }: ModelOptions, how: Pick<ChatCompletionsOptions, 'stream' | 'images'> = {}): Model | undefined {
  if (modelUrl === undefined) {
    if (model !== undefined)
      throw new JexoError('JEXO_USAGE', '--model names a model, but not where it is.', {
        next: 'Give its service too: --model-url https://models.example/v1',
      });
    return undefined;
  }
  if (model === undefined)
    throw new JexoError('JEXO_USAGE', '--model-url says where the models are, but not which one.', { next: 'Name it: --model <name>' });
  const key = process.env.JEXO_MODEL_KEY;
  return chatCompletions({ baseUrl: modelUrl, model, ...(key !== undefined && { key }), ...how });
}
