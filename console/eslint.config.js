import js from '@eslint/js'
import vue from 'eslint-plugin-vue'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['dist', 'src/api/schema.d.ts'] },
  js.configs.recommended,
  ...ts.configs.recommended,
  ...vue.configs['flat/essential'],
  { files: ['**/*.vue'], languageOptions: { parserOptions: { parser: ts.parser } } },
  { rules: { 'vue/multi-word-component-names': 'off', 'no-undef': 'off' } },
  // Texts are in src/texts.ts; signs and the letters of keys are not texts.
  { files: ['**/*.vue'], rules: { 'vue/no-bare-strings-in-template': ['error', { allowlist: ['(', ')', ',', ':', ';', '.', '=', '@', '#', '×', 'Δ', '?', '+', '–', ...'hjklnpmHLu'] }] } },
)
