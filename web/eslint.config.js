import vue from 'eslint-plugin-vue'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['dist/**', 'node_modules/**', 'src/api/*.d.ts', 'eslint.config.js', 'vite.config.ts'] },
  ...ts.configs.strict,
  ...vue.configs['flat/recommended'],
  {
    files: ['**/*.vue', '**/*.ts'],
    languageOptions: {
      parserOptions: {
        parser: ts.parser,
        project: './tsconfig.json',
        extraFileExtensions: ['.vue'],
        tsconfigRootDir: import.meta.dirname,
      },
    },
    rules: {
      // Prettier lays out.
      'vue/max-attributes-per-line': 'off',
      'vue/singleline-html-element-content-newline': 'off',
      'vue/html-self-closing': 'off',
      'vue/html-indent': 'off',
      'vue/multiline-html-element-content-newline': 'off',
      'vue/first-attribute-linebreak': 'off',
      'vue/html-closing-bracket-newline': 'off',
      'max-len': ['error', { code: 120, ignoreUrls: true }],
      '@typescript-eslint/no-explicit-any': 'error',
      '@typescript-eslint/no-floating-promises': 'error',
      '@typescript-eslint/await-thenable': 'error',
      '@typescript-eslint/switch-exhaustiveness-check': ['error', { considerDefaultExhaustiveForUnions: true }],
    },
  },
  // lib is pure: no Vue, no page, nothing of the layers above it.
  layer('src/lib/**/*.ts', ['vue', '**/composables/**', '**/components/**', '**/screens/**', '**/audio/**']),
  // Components show what they are given; what finds the work on a session by itself is a panel.
  layer('src/components/**/*.vue', ['**/screens/**', '**/panels/**', '**/composables/**']),
  layer('src/panels/**/*.vue', ['**/screens/**']),
  layer('src/composables/**/*.ts', ['**/screens/**', '**/panels/**', '**/components/**']),
)

/** Files that must not reach into some others. */
function layer(files, patterns) {
  return {
    files: [files],
    rules: { 'no-restricted-imports': ['error', { patterns: patterns.map((group) => ({ group: [group] })) }] },
  }
}
