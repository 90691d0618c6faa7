import { JexoError } from '../errors.js';

/** Reads options of the form `key=value` into a record, one after the other. @throws JexoError JEXO_USAGE */
export function readPair(flag: string, form: string): (text: string, before: unknown) => Record<string, string> {
  return (text, before = {}) => {
    const at = text.indexOf('=');
    const [key, value] = at < 0 ? ['', ''] : [text.slice(0, at).trim(), text.slice(at + 1).trim()];
    if (key === '' || value === '')
      throw new JexoError('JEXO_USAGE', `${flag} wants ${form}; ${JSON.stringify(text)} is not that.`, { where: flag });
    return { ...(before as Record<string, string>), [key]: value };
  };
}
