/** Colours, type and shape: a surveyor's chart by day and by night. The picture reads the same values as the page. */
import { createTheme, type MantineColorsTuple, Menu, Modal, rem } from "@mantine/core";
import { STEP } from "./step";

const shades = (hex: string): MantineColorsTuple => {
  const [r, g, b] = [1, 3, 5].map((i) => Number.parseInt(hex.slice(i, i + 2), 16)) as [number, number, number];
  const mix = (target: number, share: number) =>
    `#${[r, g, b]
      .map((v) =>
        Math.round(v + (target - v) * share)
          .toString(16)
          .padStart(2, "0"),
      )
      .join("")}`;
  return [
    mix(255, 0.92),
    mix(255, 0.8),
    mix(255, 0.64),
    mix(255, 0.46),
    mix(255, 0.28),
    mix(255, 0.12),
    hex,
    mix(0, 0.14),
    mix(0, 0.28),
    mix(0, 0.42),
  ];
};

export const theme = createTheme({
  fontFamily: "'Atkinson Hyperlegible Next Variable', 'DejaVu Sans', sans-serif",
  fontFamilyMonospace: "'JetBrains Mono Variable', 'DejaVu Sans Mono', monospace",
  scale: STEP,
  fontSizes: { xs: rem(12), sm: rem(13), md: rem(14), lg: rem(16), xl: rem(20) },
  defaultRadius: 4,
  primaryColor: "ink",
  primaryShade: { light: 6, dark: 2 },
  colors: {
    ink: shades("#1F2A33"),
    petrol: shades("#1F6F78"),
    copper: shades("#B4532A"),
    violet: shades("#5A55A3"),
    moss: shades("#5E7F3B"),
    dark: [
      "#E9E4D6",
      "#CFCABD",
      "#A7A79F",
      "#7F858A",
      "#545F67",
      "#39444C",
      "#2A333A",
      "#1B2228",
      "#14191E",
      "#0E1216",
    ],
  },
  autoContrast: true,
  respectReducedMotion: true,
  components: {
    // the first entry has the focus, not an element that is none of the menu
    Menu: Menu.extend({ defaultProps: { withInitialFocusPlaceholder: false } }),
    Modal: Modal.extend({
      defaultProps: {
        closeButtonProps: { "aria-label": "Close" },
        // the head of a dialog is not that of the page
        attributes: { header: { role: "presentation" } },
      },
    }),
  },
});

export interface Palette {
  paper: string;
  panel: string;
  ink: string;
  dim: string;
  grid: string;
  band: string;
  loud: string;
  quiet: string;
  level: string;
  ochre: string;
  ochreFill: string;
  dip: string;
  dipFill: string;
  sum: string;
  ghost: string;
  draft: string;
  curve: string;
  ride: string;
  trim: string;
  span: string;
}

export const PALETTES: Record<"light" | "dark", Palette> = {
  light: {
    paper: "#F7F4EC",
    panel: "#FFFDF7",
    ink: "#1F2A33",
    dim: "#6D7378",
    grid: "#E3DCCB",
    band: "rgba(201, 216, 106, 0.30)",
    loud: "#B4532A",
    quiet: "#5A55A3",
    level: "#5E7F3B",
    ochre: "#B98217",
    ochreFill: "rgba(214, 160, 60, 0.42)",
    dip: "#6B5A3E",
    dipFill: "rgba(107, 90, 62, 0.13)",
    sum: "rgba(31, 111, 120, 0.16)",
    ghost: "rgba(31, 42, 51, 0.30)",
    draft: "#1F6F78",
    curve: "#A0522D",
    ride: "#1F6F78",
    trim: "#7A3B69",
    span: "rgba(31, 111, 120, 0.10)",
  },
  dark: {
    paper: "#14191E",
    panel: "#1B2228",
    ink: "#E9E4D6",
    dim: "#98A0A3",
    grid: "#2A333A",
    band: "rgba(201, 216, 106, 0.16)",
    loud: "#DE7F52",
    quiet: "#9D98E0",
    level: "#95B968",
    ochre: "#D9A441",
    ochreFill: "rgba(217, 164, 65, 0.34)",
    dip: "#BBA98A",
    dipFill: "rgba(187, 169, 138, 0.12)",
    sum: "rgba(90, 175, 185, 0.20)",
    ghost: "rgba(233, 228, 214, 0.28)",
    draft: "#63B8C1",
    curve: "#DB8F63",
    ride: "#63B8C1",
    trim: "#C98FB9",
    span: "rgba(99, 184, 193, 0.14)",
  },
};
