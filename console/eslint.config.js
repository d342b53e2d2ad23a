import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

export default tseslint.config(
  { ignores: ["dist", "src/api/contract.gen.ts"] },
  ...tseslint.configs.recommended,
  hooks.configs.flat.recommended,
);
