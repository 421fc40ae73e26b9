import js from "@eslint/js";
import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import globals from "globals";
import tseslint from "typescript-eslint";

export default tseslint.config(
  { ignores: ["dist", "public", "src/api/schema.gen.ts"] },
  js.configs.recommended,
  ...tseslint.configs.recommendedTypeChecked,
  a11y.flatConfigs.recommended,
  hooks.configs.flat["recommended-latest"],
  {
    languageOptions: {
      globals: globals.browser,
      parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname },
    },
    linterOptions: { reportUnusedDisableDirectives: "error" },
    rules: {
      // What is drawn follows measures of the page and object URLs, which are known only after it was drawn.
      "react-hooks/set-state-in-effect": "off",
      "@typescript-eslint/no-unused-vars": ["error", { ignoreRestSiblings: true, varsIgnorePattern: "^_" }],
      // "picture" is the noun of this whole application.
      "jsx-a11y/img-redundant-alt": "off",
      "jsx-a11y/label-has-associated-control": ["error", { depth: 4 }],
      // Of a dialog or a page that has one field to fill in, that field has the focus.
      "jsx-a11y/no-autofocus": "off",
    },
  },
  {
    files: ["**/*.test.tsx", "src/testing.tsx"],
    rules: {
      // Stand-ins have the shape of what they stand in for.
      "@typescript-eslint/require-await": "off",
      "@typescript-eslint/no-unnecessary-type-assertion": "off",
    },
  },
  { files: ["*.js", "*.ts"], ...tseslint.configs.disableTypeChecked },
);
