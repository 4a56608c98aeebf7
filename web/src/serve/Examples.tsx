// How it is asked: commands and settings to copy, with this address and name.
import { useState } from "react";
import { Segments } from "../shell/Segments";
import type { Published } from "./api";

type Way = "search" | "answer" | "feedback" | "tools" | "local";
const WAYS: [Way, string][] = [
  ["search", "passages"],
  ["answer", "an answer as it grows"],
  ["feedback", "feedback"],
  ["tools", "tools over HTTP"],
  ["local", "tools of a local assistant"],
];

const posted = (address: string, body: string, more = "") =>
  `curl ${more}-s ${address} \\\n  -H "Authorization: Bearer $DOPPIO_KEY" -H "Content-Type: application/json" \\\n  -d '${body}'`;

/** What to send, and what comes back. */
function told(way: Way, name: string): [text: string, comes: string] {
  const at = `${window.location.origin}/serve/${name}`;
  switch (way) {
    case "search":
      return [
        posted(`${at}/search`, '{"question": "What stops the gondola in a gale?", "k": 3}'),
        "passages with title, section, page, lines, score and text; written is the context as the recipe writes it. only takes conditions, such as “document is rules/*”, and trace: true tells every stage.",
      ];
    case "answer":
      return [
        posted(`${at}/answer`, '{"question": "What stops the gondola in a gale?", "stream": true}', "-N "),
        "server-sent events: passages, then a sentence each with the numbers that it cites, then end. Needs a recipe that answers.",
      ];
    case "feedback":
      return [
        posted(
          `${at}/feedback`,
          '{"request": "ID OF THE ANSWER", "thumb": -1, "wrong": "the limit is 60 km/h"}',
        ),
        "nothing, with status 204. What is not liked waits for a label under “From use”.",
      ];
    case "tools":
      return [
        JSON.stringify({ url: `${at}/mcp`, headers: { Authorization: "Bearer …" } }, null, 2),
        "search, list_documents and read_document by the Model Context Protocol; a key has the tools of what it may ask for.",
      ];
    default:
      return [
        JSON.stringify(
          {
            command: "./doppio",
            args: ["assistant", name, "--address", window.location.origin],
            env: { DOPPIO_KEY: "dop-…" },
          },
          null,
          2,
        ),
        "the same tools over standard input and output, for an assistant on this machine.",
      ];
  }
}

export function Examples({ published }: { published: Published }) {
  const [way, setWay] = useState<Way>("search");
  const [text, comes] = told(way, published.name);
  return (
    <section className="examples" aria-label="How it is asked">
      <div className="d-flex flex-wrap align-items-center gap-3 mb-2">
        <h3 className="mb-0">How it is asked</h3>
        <Segments options={WAYS} value={way} choose={setWay} />
        <a className="small-text ms-auto" href="/api/schema">
          OpenAPI schema
        </a>
      </div>
      <pre className="sent mono">{text}</pre>
      <p className="small-text soft">Gives {comes}</p>
    </section>
  );
}
