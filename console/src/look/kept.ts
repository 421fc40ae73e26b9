/** What this browser remembers for somebody. Where it keeps nothing, nothing is remembered, and nothing else fails. */

export function kept(name: string): string | null {
  try {
    return localStorage.getItem(`plumcrate-${name}`);
  } catch {
    return null; // refused
  }
}

export function keep(name: string, value: string): void {
  try {
    localStorage.setItem(`plumcrate-${name}`, value);
  } catch {
    // Refused, or full.
  }
}
