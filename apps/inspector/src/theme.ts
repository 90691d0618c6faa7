import { useEffect, useState } from 'react';

type Theme = 'auto' | 'light' | 'dark';
const order: readonly Theme[] = ['auto', 'light', 'dark'];

/** Follows the system until a person says otherwise; their word is kept. */
export function useTheme(): [Theme, () => void] {
  const [theme, setTheme] = useState<Theme>(() => {
    const kept = localStorage.getItem('jexo-theme') as Theme | null;
    return kept !== null && order.includes(kept) ? kept : 'auto';
  });
  useEffect(() => {
    if (theme === 'auto') delete document.documentElement.dataset.theme;
    else document.documentElement.dataset.theme = theme;
    localStorage.setItem('jexo-theme', theme);
  }, [theme]);
  return [theme, () => setTheme(order[(order.indexOf(theme) + 1) % order.length]!)];
}
