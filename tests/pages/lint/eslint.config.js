import js from "@eslint/js";
import globals from "globals";

export default [
  js.configs.recommended,
  {
    languageOptions: { ecmaVersion: 2023, sourceType: "module", globals: { ...globals.browser } },
    rules: {
      "no-var": "error",
      "prefer-const": "error",
      eqeqeq: ["error", "smart"],
      "no-eval": "error",
      "no-implied-eval": "error",
      "no-shadow": "off",
      "no-unused-vars": "error",
      "max-len": ["error", { code: 130 }],
      complexity: ["error", 20],
      "max-lines": ["error", 400],
    },
  },
];
