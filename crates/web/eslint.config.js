import globals from 'globals';

// Rules that find faults; how code is laid out is the formatter's.
const rules = {
  'no-undef': 'error',
  'no-unused-vars': ['error', { caughtErrors: 'none', ignoreRestSiblings: true }],
  'no-use-before-define': ['error', { functions: false, classes: false, variables: false }],
  'prefer-const': 'error',
  'no-var': 'error',
  eqeqeq: ['error', 'always', { null: 'ignore' }],
  'no-implicit-globals': 'error',
  'no-unreachable': 'error',
  'no-dupe-keys': 'error',
  'no-self-assign': 'error',
  'no-fallthrough': 'error',
  'max-lines': ['error', 300],
};

export default [
  { ignores: ['assets/vendor/**', 'node_modules/**'] },
  { files: ['assets/**/*.js'], languageOptions: { globals: globals.browser }, rules },
  { files: ['tests/**/*.js'], languageOptions: { globals: globals.node }, rules },
];
