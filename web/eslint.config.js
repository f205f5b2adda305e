import js from '@eslint/js'
import hooks from 'eslint-plugin-react-hooks'
import ts from 'typescript-eslint'

export default ts.config(js.configs.recommended, ts.configs.recommended, hooks.configs.flat.recommended, {
  files: ['src/**/*.{ts,tsx}'],
  rules: {
    // Words stand in catalogue.ts, the files beside it and forms/fields.ts, where they are read and mended together.
    'no-restricted-syntax': [
      'error',
      { selector: 'JSXText[value=/[A-Za-z]{2}/]', message: 'Words belong in catalogue.ts.' },
      {
        selector: 'JSXAttribute[name.name=/^(label|title|placeholder|helperText|aria-label)$/] > Literal',
        message: 'Words belong in catalogue.ts.',
      },
    ],
  },
})
