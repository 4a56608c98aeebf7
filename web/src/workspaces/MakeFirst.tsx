// For a person who is in no workspace yet.
import { MakeWorkspace, ReadWorkspace } from "./MakeWorkspace";
import { BringBack } from "./BringBack";

export function MakeFirst() {
  return (
    <main className="make-first">
      <h1 className="serif">Your first workspace</h1>
      <p className="soft">
        A workspace holds one body of documents with its questions, recipes and measurements. Or ask somebody
        to invite you to theirs, or load the demo with <code>./doppio demo</code>.
      </p>
      <MakeWorkspace />
      <ReadWorkspace />
      <BringBack />
    </main>
  );
}
