import { theme as kit, type ThemeConfig } from "antd";

export type Mode = "light" | "dark";

/* The palette of a printed sea chart: buff rail, cool paper, ink, and one magenta for what can be done. */
export const palette = {
  light: {
    layout: "#f3f5f1",
    surface: "#ffffff",
    rail: "#efe5c8",
    railInk: "#3a3320",
    line: "#d8dfd9",
    lineSoft: "#e8ece7",
    ink: "#14242a",
    ink2: "#4a5b61",
    ink3: "#5f6e73",
    accent: "#8f1d5c",
    run: "#1c6a8e",
    runTint: "#dcebf1",
    fail: "#b3370d",
    failTint: "#fbe9e0",
    late: "#805400",
    lateTint: "#f8eed3",
    done: "#8fa3a3",
    doneInk: "#3d6650",
  },
  dark: {
    layout: "#0f181b",
    surface: "#152125",
    rail: "#1c2320",
    railInk: "#dccf9f",
    line: "#2b3a3f",
    lineSoft: "#213036",
    ink: "#dfe8e6",
    ink2: "#a3b3b5",
    ink3: "#8a9b9e",
    accent: "#f08fc0",
    run: "#6dbbe0",
    runTint: "#14323f",
    fail: "#ff8f66",
    failTint: "#3a2018",
    late: "#e3b450",
    lateTint: "#33290f",
    done: "#55696c",
    doneInk: "#8fc3a4",
  },
} as const;

const sans = '"Source Sans 3 Variable", "Segoe UI", "Helvetica Neue", Arial, sans-serif';
const mono = '"JetBrains Mono Variable", ui-monospace, Consolas, "Liberation Mono", monospace';

export function kitTheme(mode: Mode): ThemeConfig {
  const p = palette[mode];
  return {
    cssVar: { key: "ladle" },
    hashed: false,
    algorithm: mode === "dark" ? kit.darkAlgorithm : kit.defaultAlgorithm, // not the compact one: it shrinks the text
    token: {
      colorPrimary: p.accent,
      colorInfo: p.run,
      colorError: p.fail,
      colorWarning: p.late,
      colorSuccess: p.doneInk,
      colorLink: p.accent,
      colorTextBase: p.ink,
      colorBgBase: p.surface,
      colorBgLayout: p.layout,
      colorBgContainer: p.surface,
      colorBorder: p.line,
      colorBorderSecondary: p.lineSoft,
      colorText: p.ink,
      colorTextSecondary: p.ink2,
      colorTextTertiary: p.ink3,
      colorTextPlaceholder: p.ink3,
      colorTextDescription: p.ink2,
      fontFamily: sans,
      fontFamilyCode: mono,
      fontSize: 14,
      fontSizeSM: 13,
      lineHeight: 1.4286,
      borderRadius: 3,
      borderRadiusLG: 4,
      borderRadiusSM: 2,
      controlHeight: 30,
      controlHeightSM: 24,
      // Who asks for less of it gets none; pictures and tests wait for nothing.
      motion: !navigator.webdriver && !matchMedia("(prefers-reduced-motion: reduce)").matches,
    },
    components: {
      Form: { itemMarginBottom: 12 },
      Table: {
        headerBg: "transparent",
        headerColor: p.ink2,
        headerSplitColor: "transparent",
        rowHoverBg: p.runTint,
        rowSelectedBg: p.lineSoft,
        rowSelectedHoverBg: p.runTint,
        cellPaddingBlockSM: 4,
        cellPaddingInlineSM: 10,
        cellFontSizeSM: 14,
        borderColor: p.lineSoft,
      },
      Button: {
        primaryShadow: "none",
        defaultShadow: "none",
        fontWeight: 600,
        primaryColor: mode === "dark" ? "#2a0f1e" : "#ffffff",
      },
    },
  };
}
