import { anyPort, readerOf } from '../plans/resolve-settings.js';
import { serveSettings } from '../plans/serve-settings.js';
import type { CliOption } from './command.js';

/** The settings as options of a command. */
export const settingOptions: readonly CliOption[] = serveSettings.map((setting) => {
  const { flags, about, usual, type } = setting;
  const read = readerOf(setting);
  return {
    flags,
    about: typeof usual === 'boolean' || usual === undefined ? about : `${about} (default: ${usual})`,
    ...(read && { read }),
    ...(type === 'http' && { preset: anyPort }),
  };
});
