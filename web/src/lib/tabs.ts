/** tabs lets arrow keys, Home and End go between the tabs of a list (ARIA authoring practices, tabs with automatic activation). */
export function tabs(list: HTMLElement): () => void {
  const key = (e: KeyboardEvent) => {
    const all = [...list.querySelectorAll<HTMLElement>("[role=tab]")];
    const at = all.indexOf(e.target as HTMLElement);
    const to = {
      ArrowRight: (at + 1) % all.length,
      ArrowLeft: (at - 1 + all.length) % all.length,
      Home: 0,
      End: all.length - 1,
    }[e.key];
    if (at < 0 || to === undefined) return;
    e.preventDefault();
    all[to].focus();
    all[to].click();
  };
  list.addEventListener("keydown", key);
  return () => list.removeEventListener("keydown", key);
}
