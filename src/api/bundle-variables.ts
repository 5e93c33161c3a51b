/** Variables in the files of a bundle, for whoever writes them. */
export { filled } from '../core/bundle/bundle.ts';
