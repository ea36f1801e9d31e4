import js from '@eslint/js'
import hooks from 'eslint-plugin-react-hooks'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['dist', 'node_modules', '**/*.gen.ts', 'vite.config.ts', 'eslint.config.js'] },
  js.configs.recommended,
  ts.configs.strictTypeChecked,
  { languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } } },
  hooks.configs.flat.recommended,
  {
    rules: {
      '@typescript-eslint/restrict-template-expressions': ['error', { allowNumber: true }],
      '@typescript-eslint/no-confusing-void-expression': ['error', { ignoreArrowShorthand: true }],
      'react-hooks/purity': 'off',
    },
  },
  {
    // These have a part of our own, for the reason that stands there.
    files: ['src/**/*.tsx'],
    ignores: ['src/parts/Table.tsx', 'src/parts/Sure.tsx'],
    rules: {
      'no-restricted-imports': [
        'error',
        { paths: [{ name: 'antd', importNames: ['Table', 'Popconfirm'], message: 'Take ours, of parts.' }] },
      ],
    },
  },
)
