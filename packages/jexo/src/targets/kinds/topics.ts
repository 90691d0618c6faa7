import { resolve } from 'node:path';
import { defineServer } from '../../offers/define-server.js';
import { env } from '../../sources/setting.js';
import { splitUrl, type WrapTopicsOptions } from '../../sources/live/wrap-topics.js';
import { entryOfAddress } from '../entry-of-address.js';
import { serverName } from '../server-name.js';
import type { OpenHow, TargetKind } from '../target-kind.js';

const again = (text: string, before: unknown = []) => [...(before as string[]), text];

/** The topics of an MQTT broker: live values as resources, and tools that read them and their history. */
export const topicsKind: TargetKind = {
  kind: 'topics',
  noun: 'the topics of a broker',
  example: "'mqtt://127.0.0.1/alderwick/#'",
  about: 'the topics of an MQTT broker: live values as resources, and tools that read them and their history',
  options: [
    {
      name: 'topics',
      flags: '--topic <filter>',
      about: 'listen to this topic filter, such as alderwick/+/+/weight; may be repeated',
      read: again,
    },
    { name: 'field', flags: '--field <path>', about: 'the field of JSON payloads that is the value: reading.kg' },
    { name: 'user', flags: '--broker-user <variable>', about: 'the variable of the environment with the name for the broker' },
    { name: 'password', flags: '--broker-password <variable>', about: 'the variable of the environment with the password for the broker' },
  ],
  matches: (text) => /^mqtts?:\/\//i.test(text),
  async open(place, how) {
    const { wrapTopics } = await import('../../sources/live/wrap-topics.js');
    const name = nameOf(place);
    const source = wrapTopics(place, wrapOptions(place, how));
    return { server: defineServer({ name: serverName(name), title: `Topics of ${name}`, version: '0.0.0', offers: [source] }), files: [] };
  },
  async pack(place, how) {
    const name = nameOf(place);
    const { topics } = splitUrl(place);
    const { username: _username, password: _password, ...options } = wrapOptions(place, how);
    const { user, password } = how.options as { user?: string; password?: string };
    // Which broker it is differs from place to place.
    const variable = `${name.toUpperCase().replaceAll(/\W+/g, '_')}_BROKER`;
    const settings = [user && `username: env(${JSON.stringify(user)})`, password && `password: env(${JSON.stringify(password)})`].filter(
      Boolean,
    );
    const given = `{ ...${JSON.stringify({ topics, ...options })}${settings.map((each) => `, ${each}`).join('')} }`;
    return {
      imports: '',
      server: `defineServer({ ...${JSON.stringify({ name: serverName(name), title: `Topics of ${name}`, version: '0.0.0' })}, offers: [wrapTopics(env(${JSON.stringify(variable)}), ${given})] })`,
      from: resolve('package.json'),
      name,
      packages: ['mqtt'],
      settings: [{ variable, purpose: `the address of the broker of ${name}`, secret: true }],
    };
  },
  hostEntry: async (place, how) =>
    entryOfAddress(place, how, 'Put the password into a variable: --broker-user FEED_USER --broker-password FEED_PASSWORD'),
  name: nameOf,
};

/** The first level that is no wildcard, or the broker's host. */
function nameOf(place: string): string {
  const { broker, topics } = splitUrl(place);
  const level = topics[0]?.split('/').find((part) => part !== '' && part !== '+' && part !== '#');
  return level ?? broker.replace(/^.*[/@]/, '').replace(/:\d+$/, '');
}

function wrapOptions(place: string, { options }: OpenHow): WrapTopicsOptions {
  const { topics, field, user, password } = options as { topics?: readonly string[]; field?: string; user?: string; password?: string };
  return {
    name: nameOf(place),
    ...(topics && { topics }),
    ...(field !== undefined && { values: { '#': { field } } }),
    ...(user !== undefined && { username: env(user) }),
    ...(password !== undefined && { password: env(password) }),
  };
}
