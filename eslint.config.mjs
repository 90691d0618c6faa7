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
);
