import type { ReactNode } from "react";

interface Props {
  /** Why the file beside the form cannot be read; undefined where it can. */
  unreadable: string | undefined;
  children: ReactNode;
}

/** The fields of a file. While its text cannot be read they show the last text that could, and cannot be changed. */
export function FileForm({ unreadable, children }: Props) {
  return (
    <fieldset className="file-form" disabled={unreadable !== undefined} aria-label="The file as a form">
      {unreadable !== undefined && <p className="warn" role="status">The file has a mistake: {unreadable}. These fields show what it said before, and can be changed again once it is corrected.</p>}
      {children}
    </fieldset>
  );
}
