import prettier from 'eslint-config-prettier'
import vue from 'eslint-plugin-vue'
import { defineConfig, globalIgnores } from 'eslint/config'
import ts from 'typescript-eslint'

export default defineConfig([
  globalIgnores(['dist', 'src/api/generated.d.ts']),
  ts.configs.strict,
  vue.configs['flat/recommended'],
  {
    files: ['**/*.vue'],
    languageOptions: { parserOptions: { parser: ts.parser, extraFileExtensions: ['.vue'] } },
  },
  { rules: { 'no-undef': 'off', 'vue/multi-word-component-names': 'off' } },
  prettier,
])
