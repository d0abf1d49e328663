import skipFormatting from '@vue/eslint-config-prettier/skip-formatting'
import vue from 'eslint-plugin-vue'
import typescript from 'typescript-eslint'
import parser from 'vue-eslint-parser'

export default [
  { ignores: ['dist', 'node_modules', 'src/api/schema.d.ts', 'components.d.ts'] },
  ...typescript.configs.recommended,
  ...vue.configs['flat/recommended'],
  {
    files: ['**/*.vue'],
    languageOptions: {
      parser,
      parserOptions: { parser: typescript.parser, extraFileExtensions: ['.vue'] },
    },
    rules: { 'no-undef': 'off' },
  },
  { rules: { 'vue/multi-word-component-names': 'off', 'vue/require-default-prop': 'off' } },
  skipFormatting,
]
