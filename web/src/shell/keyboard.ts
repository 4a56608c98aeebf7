// Keys: 1 to 7 stage, j and k question, n next that is not right or has no label, / question box, g label mode, ? help.
import { useEffect } from "react";
import type { QuestionRow } from "../api/client";
import { useLabelMode } from "../labels/mode";
import { inOrder, isFailing, isOpen } from "../questions/order";
import { STAGES, useGo, usePin } from "./pin";

export function useKeys(questions: QuestionRow[], toggleHelp: () => void) {
  const labelling = useLabelMode();
  const go = useGo();
  const pin = usePin();
  useEffect(() => {
    function pressed(event: KeyboardEvent) {
      const target = event.target as HTMLElement;
      if (event.ctrlKey || event.metaKey || event.altKey) return;
      if (target.closest(".modal, .offcanvas")) return;
      if (["INPUT", "TEXTAREA", "SELECT"].includes(target.tagName)) {
        if (event.key === "Escape") target.blur();
        return;
      }
      // A page with keys of its own.
      if (document.querySelector("[data-keys='own']")) {
        if (event.key === "?") toggleHelp();
        return;
      }
      const rows = inOrder(questions);
      const here = rows.findIndex((row) => row.id === pin.question);
      const waits = (row: QuestionRow) => (labelling.on ? isOpen(row) : isFailing(row) || isOpen(row));
      const to = (row: QuestionRow | undefined) => row && go({ pin: { question: row.id, text: null } });
      const stage = STAGES[Number(event.key) - 1];
      // In label mode figures are grades.
      if (labelling.on && /^[0-3]$/.test(event.key)) return;
      if (stage) go({ stage });
      else if (event.key === "g") {
        if (pin.question !== null) labelling.toggle();
      } else if (event.key === "j") to(rows[Math.min(here + 1, rows.length - 1)]);
      else if (event.key === "k") to(rows[Math.max(here - 1, 0)]);
      else if (event.key === "n")
        to(rows.find((row, place) => place > here && waits(row)) ?? rows.find(waits));
      else if (event.key === "/") document.getElementById("ask")?.focus();
      else if (event.key === "?") toggleHelp();
      else if (event.key === "Escape" && (pin.question !== null || pin.text))
        go({ pin: { question: null, text: null } });
      else return;
      event.preventDefault();
    }
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, [questions, go, labelling, pin.question, pin.text, toggleHelp]);
}
