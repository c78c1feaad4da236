/** Dark by default, light on request; kept for the next visit. */
const KEY = "varlen-light";

export function restoreTheme(): void {
  apply(localStorage.getItem(KEY) === "1");
}

export function toggleTheme(): void {
  const light = !document.documentElement.classList.contains("light");
  localStorage.setItem(KEY, light ? "1" : "0");
  apply(light);
}

function apply(light: boolean): void {
  document.documentElement.classList.toggle("light", light);
  document.documentElement.classList.toggle("dark", !light);
}
