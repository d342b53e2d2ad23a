import { theme as antTheme, type GlobalToken, type ThemeConfig } from "antd";

const plum = "#7a2f66";
const plumLight = "#d68fbf";

/** The height of the head of each page, which stays in sight: in pixels. */
export const headHeight = 48;

/** Behind the heads of columns. */
const headsFor = (dark: boolean) => (dark ? "#29212e" : "#f4edf2");

/** Behind rows that are chosen. */
const pickedFor = (dark: boolean) => (dark ? "#33232f" : "#f7ecf4");

export const tones = {
  light: { good: "#1f7a4d", busy: "#7a2f66", warn: "#96590a", bad: "#b3261e", off: "#5d5862" },
  dark: { good: "#6fcf97", busy: "#d68fbf", warn: "#e5b567", bad: "#ff9c93", off: "#aaa3b0" },
};

/** The steps and colours of the theme under the names that theme.css has for them. */
export function variablesOf(token: GlobalToken, dark: boolean): Record<string, string> {
  return {
    xs: `${token.sizeXXS}px`,
    s: `${token.sizeSM}px`,
    m: `${token.sizeMS}px`,
    l: `${token.sizeLG}px`,
    xl: `${token.sizeLG + token.sizeSM}px`,
    head: `${headHeight}px`,
    ground: token.colorBgLayout,
    paper: token.colorBgContainer,
    ink: token.colorText,
    quiet: token.colorTextSecondary,
    described: token.colorTextDescription,
    faded: token.colorTextTertiary,
    line: token.colorBorderSecondary,
    fill: token.colorFillSecondary,
    "fill-light": token.colorFillQuaternary,
    heads: headsFor(dark),
    picked: pickedFor(dark),
    "fill-chosen": token.controlItemBgActive,
    accent: token.colorPrimary,
    "accent-ink": token.colorPrimaryText,
    mark: plumLight,
    code: token.fontFamilyCode,
    "on-bad": dark ? "#1a1018" : "#ffffff",
    ...(dark ? tones.dark : tones.light),
  };
}

export function themeFor(dark: boolean): ThemeConfig {
  return {
    algorithm: dark
      ? [antTheme.darkAlgorithm, antTheme.compactAlgorithm]
      : [antTheme.defaultAlgorithm, antTheme.compactAlgorithm],
    token: {
      colorPrimary: dark ? plumLight : plum,
      colorLink: dark ? plumLight : plum,
      colorError: dark ? "#ff8f86" : "#b3261e",
      colorBgLayout: dark ? "#17131a" : "#faf7f9",
      colorBgContainer: dark ? "#1f1a23" : "#ffffff",
      colorTextLightSolid: dark ? "#1a1018" : "#ffffff",
      colorTextDescription: dark ? "#b5aebb" : "#5d5862",
      colorTextPlaceholder: dark ? "#948c9b" : "#746e79",
      borderRadius: 6,
      fontSize: 14,
      fontFamily: "system-ui, 'Segoe UI', 'Noto Sans', 'DejaVu Sans', sans-serif",
      fontFamilyCode: "ui-monospace, 'DejaVu Sans Mono', monospace",
      controlHeight: 32,
    },
    components: {
      Table: {
        cellPaddingBlockSM: 6,
        cellPaddingInlineSM: 12,
        headerBg: headsFor(dark),
        rowSelectedBg: pickedFor(dark),
        rowSelectedHoverBg: dark ? "#3b2937" : "#f2e2ee",
      },
      Layout: { headerBg: dark ? "#2a1726" : "#4f1d42", headerHeight: headHeight, headerPadding: "0 20px" },
    },
  };
}
