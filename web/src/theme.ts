import { createSystem, defineConfig } from "@chakra-ui/react";
// The parts one by one: the ready-made system would be worked out, all of it, before anything is drawn.
import { defaultBaseConfig } from "@chakra-ui/react/preset-base";
import {
  animationStyles,
  breakpoints,
  buttonRecipe,
  checkboxSlotRecipe,
  checkmarkRecipe,
  dialogSlotRecipe,
  fieldSlotRecipe,
  globalCss,
  iconRecipe,
  inputRecipe,
  kbdRecipe,
  keyframes,
  layerStyles,
  linkRecipe,
  nativeSelectSlotRecipe,
  popoverSlotRecipe,
  progressSlotRecipe,
  segmentGroupSlotRecipe,
  semanticTokens,
  sliderSlotRecipe,
  spinnerRecipe,
  switchSlotRecipe,
  tableSlotRecipe,
  textStyles,
  tokens,
} from "@chakra-ui/react/theme";

/** Neutral grays without tint for every surface, one amber for what is active. */
const config = defineConfig({
  globalCss: {
    html: { colorPalette: "amber", fontSize: "title" },
    "html, body, #root": { height: "100%" },
    body: { fontVariantNumeric: "tabular-nums", background: "bg", color: "fg", lineHeight: 1.35 },
    "*": { _motionReduce: { transition: "none !important", animation: "none !important" } },
  },
  theme: {
    tokens: {
      fonts: { body: { value: "'Inter Variable', sans-serif" }, heading: { value: "'Inter Variable', sans-serif" } },
      fontSizes: {
        caption: { value: "11.5px" },
        small: { value: "12.5px" },
        body: { value: "13px" },
        title: { value: "14px" },
        heading: { value: "16px" },
      },
      colors: {
        gray: {
          50: { value: "#f6f6f6" },
          100: { value: "#ececec" },
          200: { value: "#dcdcdc" },
          300: { value: "#c4c4c4" },
          400: { value: "#a3a3a3" },
          500: { value: "#7c7c7c" },
          600: { value: "#585858" },
          700: { value: "#444444" },
          800: { value: "#2e2e2e" },
          900: { value: "#222222" },
          950: { value: "#1a1a1a" },
        },
        amber: {
          50: { value: "#fff7e8" },
          100: { value: "#fde9c4" },
          200: { value: "#f9d595" },
          300: { value: "#f4bf63" },
          400: { value: "#efac3f" },
          500: { value: "#e2982a" },
          600: { value: "#b87515" },
          700: { value: "#8f5a0d" },
          800: { value: "#5c3c10" },
          900: { value: "#3a290f" },
          950: { value: "#241a0b" },
        },
      },
    },
    semanticTokens: {
      colors: {
        bg: {
          DEFAULT: { value: { _light: "{colors.gray.50}", _dark: "{colors.gray.950}" } },
          raised: { value: { _light: "#ffffff", _dark: "{colors.gray.900}" } },
          sunken: { value: { _light: "{colors.gray.100}", _dark: "#131313" } },
          panel: { value: { _light: "#ffffff", _dark: "{colors.gray.900}" } },
        },
        fg: {
          DEFAULT: { value: { _light: "#1a1a1a", _dark: "#ececec" } },
          muted: { value: { _light: "#555555", _dark: "#b0b0b0" } },
        },
        border: { DEFAULT: { value: { _light: "{colors.gray.200}", _dark: "#363636" } } },
        loss: { value: { _light: "#a34400", _dark: "#ef7f3f" } },
        amber: {
          solid: { value: { _light: "{colors.amber.500}", _dark: "{colors.amber.400}" } },
          contrast: { value: "#1a1206" },
          fg: { value: { _light: "{colors.amber.700}", _dark: "{colors.amber.400}" } },
          muted: { value: { _light: "{colors.amber.100}", _dark: "{colors.amber.800}" } },
          subtle: { value: { _light: "{colors.amber.50}", _dark: "{colors.amber.900}" } },
          emphasized: { value: { _light: "{colors.amber.200}", _dark: "{colors.amber.700}" } },
          focusRing: { value: { _light: "{colors.amber.600}", _dark: "{colors.amber.400}" } },
          border: { value: { _light: "{colors.amber.400}", _dark: "{colors.amber.700}" } },
        },
      },
    },
  },
});

/** The size of text in plots, px, which are drawn without the theme. */
export const PLOT_TEXT = 12;

/** Of the ready-made colors only those that the screens use: working out every one takes longer than drawing the bench. */
const COLORS = ["transparent", "current", "black", "white", "whiteAlpha", "blackAlpha", "gray", "red"] as const;
const MEANINGS = ["bg", "fg", "border", "gray", "red"] as const;

function only<T extends object, K extends keyof T>(all: T, names: readonly K[]): Pick<T, K> {
  return Object.fromEntries(names.map((name) => [name, all[name]])) as Pick<T, K>;
}

/** The theme's way to write styles, and of its looks those of the components that the screens use. */
const ready = defineConfig({
  ...defaultBaseConfig,
  preflight: true,
  cssVarsPrefix: "chakra",
  cssVarsRoot: ":where(html, .chakra-theme)",
  globalCss,
  theme: {
    breakpoints,
    keyframes,
    textStyles,
    layerStyles,
    animationStyles,
    tokens: { ...tokens, colors: only(tokens.colors, COLORS) },
    semanticTokens: { ...semanticTokens, colors: only(semanticTokens.colors, MEANINGS) },
    recipes: {
      button: buttonRecipe,
      checkmark: checkmarkRecipe,
      icon: iconRecipe,
      input: inputRecipe,
      kbd: kbdRecipe,
      link: linkRecipe,
      spinner: spinnerRecipe,
    },
    slotRecipes: {
      checkbox: checkboxSlotRecipe,
      dialog: dialogSlotRecipe,
      field: fieldSlotRecipe,
      nativeSelect: nativeSelectSlotRecipe,
      popover: popoverSlotRecipe,
      progress: progressSlotRecipe,
      segmentGroup: segmentGroupSlotRecipe,
      slider: sliderSlotRecipe,
      switch: switchSlotRecipe,
      table: tableSlotRecipe,
    },
  },
});

export const system = createSystem(ready, config);
