import { createRoot } from 'react-dom/client';
import { App } from './app';
import { start } from './store';
import './styles.css';

void start();
createRoot(document.getElementById('root')!).render(<App />);
