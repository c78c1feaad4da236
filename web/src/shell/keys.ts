/** Whether a key press belongs to a field or a dialog and must not be taken for a shortcut. Of a slider that are arrows and their like, no letters. */
export function isTyping(event: KeyboardEvent): boolean {
  const target = event.target as HTMLElement | null;
  if (!target) return false;
  return (
    target.matches("input:not([type=checkbox]):not([type=radio]), textarea, select, [role=spinbutton]") ||
    (event.key.length > 1 && target.matches("[role=slider]")) ||
    target.closest("[role=dialog]") !== null
  );
}
