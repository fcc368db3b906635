import prettier from 'eslint-config-prettier'
import vue from 'eslint-plugin-vue'
import typescript from 'typescript-eslint'

// What the compiler does not see. How the code is laid out is the formatter's.
export default typescript.config(
  { ignores: ['node_modules', 'src/api.d.ts'] },
  typescript.configs.recommended,
  vue.configs['flat/recommended'],
  { files: ['**/*.vue'], languageOptions: { parserOptions: { parser: typescript.parser } } },
  prettier,
  {
    linterOptions: { reportUnusedDisableDirectives: 'error' },
    rules: {
      'vue/multi-word-component-names': 'off',
      'no-undef': 'off', // the compiler knows
      eqeqeq: 'error',
    },
  },
)
