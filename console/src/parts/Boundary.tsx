/** A page that fails is said to have failed, and leaves all round it in use. */

import { Component, type ReactNode } from "react";
import { ErrorNote } from "./ui";

export class Boundary extends Component<{ children: ReactNode }, { error: unknown }> {
  override state = { error: undefined as unknown };

  static getDerivedStateFromError(error: unknown) {
    return { error };
  }

  override render() {
    if (this.state.error === undefined) return this.props.children;
    return (
      <div className="space-y-3">
        <ErrorNote error={this.state.error} again={() => this.setState({ error: undefined })} />
        <p className="text-sm text-quiet">
          This page could not be drawn; nothing in the library was changed by that. If it fails again, load
          the console anew: it may have been updated meanwhile.
        </p>
      </div>
    );
  }
}
