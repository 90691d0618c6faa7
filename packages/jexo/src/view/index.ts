/**
 * For pages that hosts show beside answers: the host, as the page sees it.
 *
 * @module jexo/view
 */
export { done, openView } from './open-view.js';
export {
  ViewError,
  type DisplayMode,
  type HostCapabilities,
  type HostContext,
  type InputOf,
  type OutputOf,
  type View,
  type ViewLogLevel,
  type ViewOptions,
  type ViewResult,
  type ViewTool,
} from './view-types.js';
