import vue from 'eslint-plugin-vue'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['dist', 'src/api/generated.ts'] },
  ...ts.configs.strict,
  ...ts.configs.stylistic,
  ...vue.configs['flat/recommended'],
  {
    files: ['**/*.vue'],
    languageOptions: { parserOptions: { parser: ts.parser } },
  },
  {
    rules: {
      '@typescript-eslint/no-explicit-any': 'error',
      '@typescript-eslint/no-unused-vars': ['error', { varsIgnorePattern: '^_', argsIgnorePattern: '^_' }],
      // Hints go into v-tooltip, tables into DataTable, where the keyboard and screen readers reach them.
      'vue/no-restricted-static-attribute': ['error', { key: 'title', message: 'Use v-tooltip.' }],
      'vue/no-restricted-v-bind': ['error', { argument: 'title', message: 'Use v-tooltip.' }],
      'vue/no-restricted-html-elements': ['error', { element: 'table', message: 'Use DataTable.' }],
      'no-restricted-imports': ['error', { paths: [{ name: 'primevue', message: 'Import the component alone.' }] }],
      'vue/block-lang': ['error', { script: { lang: 'ts' } }],
      // How lines break is up to the writer.
      'vue/max-attributes-per-line': 'off',
      'vue/singleline-html-element-content-newline': 'off',
      'vue/multiline-html-element-content-newline': 'off',
      'vue/html-self-closing': 'off',
      'vue/html-indent': 'off',
      'vue/html-closing-bracket-newline': 'off',
      'vue/first-attribute-linebreak': 'off',
    },
  },
)
