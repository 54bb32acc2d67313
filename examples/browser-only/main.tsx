import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { Page } from './page.js';

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <Page />
  </StrictMode>,
);
