import { createTheme, type CSSVariablesResolver, type MantineColorsTuple } from "@mantine/core";

const leaf: MantineColorsTuple = [
  "#edf5ee", "#d8e8da", "#b3d1b8", "#8bb993", "#67a272", "#4b8a58", "#387546", "#2f6b41", "#235234", "#163a23",
];
const ochre: MantineColorsTuple = [
  "#fdf4e1", "#f8e5c0", "#eecb8b", "#e3b056", "#d9992c", "#c4841a", "#a66c10", "#85560c", "#664109", "#4a2f06",
];
const ink: MantineColorsTuple = [
  "#f4f1ea", "#e6e0d3", "#cdc5b4", "#aba291", "#8a8273", "#6b6457", "#534d42", "#3d382f", "#2b2721", "#1e1b17",
];

export const SERIF = "'Literata Variable', Georgia, serif";
const SANS = "'Source Sans 3 Variable', system-ui, sans-serif";

export const theme = createTheme({
  respectReducedMotion: true,
  primaryColor: "leaf",
  primaryShade: { light: 7, dark: 3 },
  autoContrast: true,
  colors: { leaf, ochre, ink, gray: ink, dark: ["#e9e2d3", "#c9c1b1", "#a79f8f", "#7d7668", "#5a5448", "#443f36", "#332f29", "#26231e", "#1c1a16", "#141210"] },
  fontFamily: SANS,
  headings: { fontFamily: SERIF, fontWeight: "560" },
  defaultRadius: "xs",
  cursorType: "pointer",
  components: {
    Anchor: { defaultProps: { inherit: true } },
    // An open list stays open when content that loads above it moves its field out of the window.
    Popover: { defaultProps: { hideDetached: false } },
  },
});

/** Six colours that colour-blind readers tell apart, in the order charts use them. */
function series(...colors: string[]): Record<string, string> {
  return Object.fromEntries(colors.map((color, place) => [`--series-${place + 1}`, color]));
}

/** Warm paper in light, a lamp-lit page in dark; everything else takes its colour from these. */
export const variables: CSSVariablesResolver = () => ({
  variables: {},
  light: {
    "--mantine-color-body": "#faf6ec",
    "--mantine-color-text": "#2b2721",
    "--mantine-color-dimmed": "#665f52",
    "--mantine-color-default-border": "#d9d0bd",
    "--rule": "#dcd3c0",
    "--margin-ground": "#f3eddf",
    ...series("#2f6b41", "#b5541c", "#3b6ea5", "#8a5a9e", "#8f7a1e", "#b0476b"),
  },
  dark: {
    "--mantine-color-dimmed": "#a79f8f",
    "--mantine-color-body": "#1c1a16",
    "--mantine-color-disabled-color": "#8f8778",
    "--mantine-color-ochre-outline": ochre[3],
    "--mantine-color-leaf-outline": leaf[3],
    "--rule": "#3a352d",
    "--margin-ground": "#171511",
    ...series("#67a272", "#e08a4f", "#7fa8d6", "#c29ad3", "#cdb65a", "#e08fab"),
  },
});
