import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist", "src/api/schema.d.ts"] },
  ...ts.configs.strict,
  hooks.configs.flat.recommended,
  a11y.flatConfigs.recommended,
  // The browser's own focus moves to a field that a person has just asked for.
  { rules: { "jsx-a11y/no-autofocus": "off" } },
);
