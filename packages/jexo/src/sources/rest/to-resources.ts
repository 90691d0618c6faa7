import { choose } from '../../offers/choose.js';
import type { Offer, ToolOffer } from '../../offers/offer.js';
import { resource, template } from '../../offers/resource.js';
import type { JsonSchema } from '../../protocol/types.js';
import type { Operation } from './operation.js';
import type { Prepared } from './prepare-operation.js';

/** Chosen in the same way as by `only`. */
export function matching(offers: readonly ToolOffer[], patterns: readonly string[], field: string): ReadonlySet<ToolOffer> {
  return patterns.length === 0 ? new Set() : new Set(choose({ offers }, { only: patterns }, field).offers as readonly ToolOffer[]);
}

/** GET operations as resources, and as templates where they have parameters. */
export function resourcesOf(
  made: readonly { readonly offer: ToolOffer; readonly operation: Operation; readonly call: Prepared }[],
  chosen: readonly Offer[],
  wanted: boolean | readonly string[],
  slug: string,
): Offer[] {
  if (wanted === false) return [];
  const names = new Set(chosen.flatMap(({ aliases }) => aliases ?? []));
  const gets = made.filter(({ operation, offer }) => operation.method === 'GET' && offer.aliases!.some((alias) => names.has(alias)));
  const readable =
    wanted === true
      ? undefined
      : matching(
          gets.map(({ offer }) => offer),
          wanted,
          'resources',
        );
  return gets
    .filter(
      ({ offer, operation }) =>
        (readable === undefined || readable.has(offer)) &&
        operation.parameters.every((parameter) => parameter.in === 'path' || !parameter.required || parameter.in === 'query'),
    )
    .map(({ offer, operation, call }) => {
      const { title, description, tags } = offer;
      const about = {
        name: offer.name,
        ...(title !== undefined && { title }),
        ...(description !== undefined && { description }),
        ...(tags && { tags }),
        ...(operation.answer?.mediaType !== undefined && { mimeType: operation.answer.mediaType.split(';')[0]! }),
      };
      const query = operation.parameters
        .filter((parameter) => parameter.in === 'query' && /^\w+$/.test(parameter.name))
        .map(({ name }) => name);
      const path = operation.path.slice(1).replaceAll(/\{([^}]+)\}/g, (_, name: string) => `{${name.replaceAll(/\W/g, '_')}}`);
      const uri = `${slug}://${path}${query.length > 0 ? `{?${query.join(',')}}` : ''}`;
      const typed = (given: Record<string, unknown>) =>
        Object.fromEntries(
          Object.entries(given).map(([name, text]) => [name, numeric(offer.input.json, name) && text !== '' ? Number(text) : text]),
        );
      if (!uri.includes('{')) return resource(uri, about, (_request, context) => call.read({}, context) as Promise<string>);
      return template(uri, about, (variables: Record<string, unknown>, context) => call.read(typed(variables), context) as Promise<string>);
    });
}

function numeric({ properties }: JsonSchema, name: string): boolean {
  const type = (properties as Record<string, JsonSchema> | undefined)?.[name]?.type;
  return [type].flat().some((each) => each === 'integer' || each === 'number');
}
