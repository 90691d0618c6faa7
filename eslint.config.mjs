import tseslint from 'typescript-eslint';
import { walls } from './scripts/walls.mjs';

export default tseslint.config(
  { ignores: ['**/dist/**', '**/node_modules/**', 'coverage/**', 'packages/jexo/assets/**'] },
  ...tseslint.configs.recommended,
  {
    plugins: { house: { rules: { walls } } },
    rules: {
      'house/walls': 'error',
      eqeqeq: ['error', 'always', { null: 'ignore' }],
      'no-empty': ['error', { allowEmptyCatch: false }],
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_', varsIgnorePattern: '^_', ignoreRestSiblings: true }],
      '@typescript-eslint/no-empty-function': 'off',
    },
  },
  {
    // A longer one says why in the comment that allows it.
    files: ['packages/jexo/src/**/*.ts', 'apps/inspector/src/**/*.{ts,tsx}'],
    rules: { 'max-lines-per-function': ['error', { max: 80, skipBlankLines: true, skipComments: true }] },
  },
);
