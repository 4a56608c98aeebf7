// Words that are selected in a document: where the passages that hold them stood for the pinned question.
import { useEffect, useState } from "react";
import type { Asked, DocumentText } from "../../api/client";
import { selectedWords, type Selected } from "../../labels/selection";
import { codePoints } from "../../text/codepoints";
import { WhyNot } from "../shared/WhyNot";

const SHOWN = 60;

export function WhyNotSelected({ asked, document: open }: { asked: Asked; document: DocumentText }) {
  const [chosen, setChosen] = useState<Selected | null>(null);
  useEffect(() => {
    const points = codePoints(open.text);
    function look() {
      const words = selectedWords((number) => (number === open.id ? points : undefined));
      // A selection that went, as it does when the button is pressed, leaves what was chosen.
      if (words && words.document === open.id) setChosen(words);
    }
    document.addEventListener("selectionchange", look);
    return () => document.removeEventListener("selectionchange", look);
  }, [open]);
  return (
    <p className="small-text where-stood">
      {chosen ? (
        <>
          <WhyNot asked={asked} stretch={{ document: open.id, start: chosen.start, end: chosen.end }}>
            Where did it stand?
          </WhyNot>{" "}
          <span className="soft serif">
            {chosen.text.replace(/\s+/g, " ").slice(0, SHOWN)}
            {chosen.text.length > SHOWN && "…"}
          </span>
        </>
      ) : (
        <span className="soft">Select any words to see where they stood for this question.</span>
      )}
    </p>
  );
}
