import vue from 'eslint-plugin-vue'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['dist/**', 'node_modules/**', 'src/api/schema.d.ts'] },
  ...ts.configs.strict,
  ...vue.configs['flat/recommended'],
  {
    files: ['**/*.vue', '**/*.ts'],
    languageOptions: { parserOptions: { parser: ts.parser } },
    rules: {
      'vue/max-attributes-per-line': 'off',
      'vue/singleline-html-element-content-newline': 'off',
      'vue/html-self-closing': 'off',
      'vue/html-indent': 'off',
      'vue/multiline-html-element-content-newline': 'off',
      'vue/first-attribute-linebreak': 'off',
      'vue/html-closing-bracket-newline': 'off',
      '@typescript-eslint/no-explicit-any': 'error',
    },
  },
  // lib is pure: no Vue, no page, nothing of the layers above it.
  {
    files: ['src/lib/**/*.ts'],
    rules: { 'no-restricted-imports': ['error', { patterns: ['vue', '*composables*', '*components*', '*screens*', '*audio*'] }] },
  },
  {
    files: ['src/components/**/*.vue'],
    rules: { 'no-restricted-imports': ['error', { patterns: ['*screens*', '*composables/*'] }] },
  },
)
