import tseslint from "typescript-eslint";
import hooks from "eslint-plugin-react-hooks";

export default tseslint.config(
  { ignores: ["src/api/schema.d.ts"] },
  ...tseslint.configs.strict,
  {
    plugins: { "react-hooks": hooks },
    rules: { ...hooks.configs.recommended.rules, "max-lines": ["error", 300] },
  },
);
