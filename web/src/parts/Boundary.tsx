import { Component, type ErrorInfo, type ReactNode } from "react";
import { Button } from "./Button";

/**
 * Keeps a mistake in one view from taking the page: it says so, and offers the view anew. `at` is where the person is: going on
 * forgets the mistake.
 */
export class Boundary extends Component<{ at: string; children: ReactNode }, { error: Error | null; at: string }> {
  override state = { error: null as Error | null, at: this.props.at };

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  static getDerivedStateFromProps(next: { at: string }, now: { at: string }) {
    return next.at === now.at ? null : { at: next.at, error: null };
  }

  override componentDidCatch(error: Error, info: ErrorInfo) {
    console.error("A view failed", error, info.componentStack);
  }

  override render() {
    if (!this.state.error) return this.props.children;
    return (
      <div role="alert" className="mx-auto mt-24 max-w-lg p-4">
        <h1 className="text-lg font-semibold">This view cannot be shown.</h1>
        <p className="mt-2">Something is wrong in Unlatch itself: {this.state.error.message}</p>
        <p className="mt-2 text-soft">
          Work under way goes on; nothing is lost. Try again, or go to another view. If it stays, load the page anew.
        </p>
        <div className="mt-4 flex gap-2">
          <Button look="next" onClick={() => this.setState({ error: null })}>
            Try again
          </Button>
          <Button onClick={() => location.reload()}>Load the page anew</Button>
        </div>
      </div>
    );
  }
}
