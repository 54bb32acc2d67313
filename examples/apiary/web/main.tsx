import '@mantine/core/styles.css';
import './style.css';
import { MantineProvider } from '@mantine/core';
import { createRoot } from 'react-dom/client';
import { App } from './app.js';
import { theme } from './theme.js';

createRoot(document.getElementById('root') as HTMLElement).render(
  <MantineProvider theme={theme} forceColorScheme="light">
    <App />
  </MantineProvider>,
);
