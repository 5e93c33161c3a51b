export { definitionSchema } from '../core/provider/json-schema.ts';
