/** Day or night: the browser's own choice, kept where the browser keeps such things. */
const THEME = 'mivlo-theme'

export const storedTheme = () => localStorage.getItem(THEME) ?? 'day'

export function setTheme(theme: string) {
  document.documentElement.dataset['theme'] = theme
  localStorage.setItem(THEME, theme)
}

export const switchTheme = () => setTheme(document.documentElement.dataset['theme'] === 'night' ? 'day' : 'night')
