import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

export default tseslint.config(
  { ignores: ["dist", "src/api/contract.gen.ts"] },
  ...tseslint.configs.recommendedTypeChecked,
  { languageOptions: { parserOptions: { projectService: true } } },
  hooks.configs.flat.recommended,
  a11y.flatConfigs.recommended,
  {
    rules: {
      // A dialog, and the page to sign in, begin at their first field.
      "jsx-a11y/no-autofocus": "off",
      "jsx-a11y/label-has-associated-control": ["error", { controlComponents: ["Switch"], depth: 3 }],
    },
  },
);
