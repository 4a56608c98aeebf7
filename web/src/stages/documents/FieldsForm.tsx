// What the fields of a table are: matched, carried along, or metadata; which one is the title, which the id.
import { useState } from "react";
import { Button, Form, Table } from "react-bootstrap";
import { useFieldsSeen, useSetFields, type Fields, type ImportedFile } from "./api";
import { Shown } from "../../shell/states";

type Use = "matched" | "carried" | "metadata";

export function FieldsForm({ number, file }: { number: number; file: ImportedFile }) {
  const [open, setOpen] = useState(false);
  const [fields, setFields] = useState<Fields | null>(file.fields as Fields | null);
  const said = fields
    ? `A row is a document. Searched: ${fields.matched.join(", ")}.` +
      (fields.carried.length ? ` Carried along: ${fields.carried.join(", ")}.` : "")
    : file.name.toLowerCase().endsWith(".csv")
      ? "One document, a row a line that names its columns."
      : "Each line a document with id and text.";
  return (
    <div className="fields small-text">
      <span className="soft">{said}</span>{" "}
      <Button size="sm" variant="link" className="p-0 small-text" onClick={() => setOpen(!open)}>
        {open ? "Close" : "Choose fields"}
      </Button>
      {open && (
        <Choice
          number={number}
          file={file}
          fields={fields}
          saved={(chosen) => {
            setFields(chosen);
            setOpen(false);
          }}
        />
      )}
    </div>
  );
}

function Choice({
  number,
  file,
  fields,
  saved,
}: {
  number: number;
  file: ImportedFile;
  fields: Fields | null;
  saved: (fields: Fields | null) => void;
}) {
  const seen = useFieldsSeen(number, file.id);
  const set = useSetFields(number, file.id);
  const [chosen, setChosen] = useState<Fields>(fields ?? { matched: [], carried: [], title: "", id: "" });
  const use = (name: string): Use =>
    chosen.matched.includes(name) ? "matched" : chosen.carried.includes(name) ? "carried" : "metadata";
  const put = (name: string, how: Use) =>
    setChosen((before) => ({
      ...before,
      matched: [...before.matched.filter((one) => one !== name), ...(how === "matched" ? [name] : [])],
      carried: [...before.carried.filter((one) => one !== name), ...(how === "carried" ? [name] : [])],
    }));
  const save = (body: Fields | null) => set.mutate(body, { onSuccess: () => saved(body) });
  return (
    <Shown query={seen} what="Reading the first rows">
      {(rows) => (
        <>
          <Table size="sm" className="small-text mt-1 mb-1">
            <thead>
              <tr>
                <th>Field</th>
                <th>Use</th>
                <th>Title</th>
                <th>Id</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => (
                <tr key={row.name}>
                  <td>
                    {row.name}
                    <div className="soft text-truncate" style={{ maxWidth: "15rem" }}>
                      {row.samples[0]}
                    </div>
                  </td>
                  <td>
                    <Form.Select
                      size="sm"
                      aria-label={`Use of ${row.name}`}
                      value={use(row.name)}
                      onChange={(event) => put(row.name, event.target.value as Use)}
                    >
                      <option value="metadata">metadata</option>
                      <option value="matched">searched</option>
                      <option value="carried">carried along</option>
                    </Form.Select>
                  </td>
                  {(["title", "id"] as const).map((key) => (
                    <td key={key}>
                      <Form.Check
                        type="radio"
                        aria-label={`${row.name} is the ${key}`}
                        checked={chosen[key] === row.name}
                        onClick={() =>
                          setChosen({ ...chosen, [key]: chosen[key] === row.name ? "" : row.name })
                        }
                        onChange={() => undefined}
                      />
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </Table>
          {!chosen.matched.length && <div className="soft">Choose at least one field that is searched.</div>}
          {set.error && <div className="lost">{set.error.message}</div>}
          <div className="d-flex gap-1">
            <Button size="sm" disabled={!chosen.matched.length || set.isPending} onClick={() => save(chosen)}>
              A row is a document
            </Button>
            {fields && (
              <Button size="sm" variant="outline-secondary" onClick={() => save(null)}>
                Read it as it is
              </Button>
            )}
          </div>
        </>
      )}
    </Shown>
  );
}
