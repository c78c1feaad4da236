/** Whether a key press belongs to a field or a dialog and must not be taken for a shortcut. */
export function isTyping(event: KeyboardEvent): boolean {
  const target = event.target as HTMLElement | null;
  if (!target) return false;
  return (
    target.matches("input:not([type=checkbox]):not([type=radio]), textarea, select, [role=slider], [role=spinbutton]") ||
    target.closest("[role=dialog]") !== null
  );
}
