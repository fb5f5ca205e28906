/** Who uses the console. */
class Session {
  user = $state<string | undefined>();
  role = $state("");

  /** operates reports whether this user may change anything. */
  get operates() {
    return this.role !== "watch";
  }
}

export const session = new Session();
