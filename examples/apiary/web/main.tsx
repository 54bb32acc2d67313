import '@mantine/core/styles.css';
import './style.css';
import { MantineProvider } from '@mantine/core';
import { startAuthentication, startRegistration } from '@simplewebauthn/browser';
import { createRoot } from 'react-dom/client';
import { ClientProvider } from 'warm-lintel/react';
import { client } from './api.js';
import { App } from './app.js';
import { theme } from './theme.js';

const passkeys = { startAuthentication, startRegistration };
createRoot(document.getElementById('root') as HTMLElement).render(
  <MantineProvider theme={theme} forceColorScheme="light">
    <ClientProvider client={client} passkeys={passkeys}>
      <App />
    </ClientProvider>
  </MantineProvider>,
);
