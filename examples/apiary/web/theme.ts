import { Button, createTheme, type MantineColorsTuple } from '@mantine/core';

const honey: MantineColorsTuple = ['#fdf7ea', '#f8ebcd', '#f0d699', '#e7bf62', '#dfaa35', '#c98f1c', '#a87313', '#855a0f', '#6b480e', '#4f350b'];

/** Warm paper, honey for what can be done, and nothing louder than the records themselves. */
export const theme = createTheme({
  colors: { honey },
  primaryColor: 'honey',
  // Dark enough that white on it passes WCAG 2.2 AA.
  primaryShade: 7,
  defaultRadius: 'md',
  respectReducedMotion: true,
  fontFamily: 'ui-sans-serif, system-ui, "Segoe UI", "DejaVu Sans", sans-serif',
  headings: { fontFamily: 'Georgia, "DejaVu Serif", serif', fontWeight: '600' },
  components: { Button: Button.extend({ defaultProps: { size: 'sm' } }) },
});
