import globals from 'globals';
import words from './eslint-words.js';

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
  // A name that was changed everywhere must not be changed in what people read.
  'no-restricted-syntax': [
    'error',
    ...['TemplateElement[value.raw=', ':not(ImportDeclaration) > Literal[value='].map((text) => ({
      selector: `${text}/\\b(bench|seq|state|store|viewer)\\.[a-z]/]`,
      message: 'A text names a variable.',
    })),
  ],
};

export default [
  { ignores: ['assets/vendor/**', 'node_modules/**'] },
  { files: ['assets/**/*.js'], languageOptions: { globals: globals.browser }, rules },
  {
    files: ['assets/**/*.js'],
    ignores: ['assets/vendor/**', 'assets/words/**'],
    plugins: { words },
    rules: { 'words/in-one-place': 'error' },
  },
  { files: ['assets/words/**'], rules: { 'max-lines': 'off' } },
  { files: ['tests/**/*.js'], languageOptions: { globals: globals.node }, rules },
];
