/**
 * For the configuration of Vite: one page of an app, for hosts to show.
 *
 * @module jexo/vite
 */
export { singlePage, type ViewPluginOptions } from './sources/views/vite-plugin.js';
