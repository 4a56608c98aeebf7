// Who is in the workspace, and as what; owners invite by a link.
import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Shown } from "../shell/states";
import { useMay } from "../shell/workspace";
import { ROLES, useChangeMember, useInvite, useMembers, type Role } from "./api";

export function Members() {
  const members = useMembers();
  const change = useChangeMember();
  const owner = useMay("owner");
  return (
    <section>
      <h3>Members</h3>
      <Shown query={members} what="Reading the members">
        {(rows) => (
          <div className="members">
            {rows.map((row) => (
              <div key={row.id} className="member">
                <span className="text-truncate">{row.username}</span>
                {owner ? (
                  <Form.Select
                    size="sm"
                    value={row.role}
                    aria-label={`Role of ${row.username}`}
                    onChange={(event) => change.mutate({ member: row.id, role: event.target.value as Role })}
                  >
                    {ROLES.map(([role, may]) => (
                      <option key={role} value={role}>
                        {role}: {may}
                      </option>
                    ))}
                  </Form.Select>
                ) : (
                  <span className="soft">{row.role}</span>
                )}
                {owner && (
                  <Button
                    size="sm"
                    variant="outline-danger"
                    onClick={() => change.mutate({ member: row.id, role: null })}
                  >
                    Take out
                  </Button>
                )}
              </div>
            ))}
          </div>
        )}
      </Shown>
      {change.error && <div className="lost small-text">{change.error.message}</div>}
      {owner && <Invite />}
    </section>
  );
}

function Invite() {
  const [username, setUsername] = useState("");
  const [role, setRole] = useState<Role>("editor");
  const invite = useInvite();
  const link = invite.data?.link;
  return (
    <Form
      className="mt-2"
      onSubmit={(event) => {
        event.preventDefault();
        invite.mutate({ username, role }, { onSuccess: () => setUsername("") });
      }}
    >
      <div className="d-flex gap-2">
        <Form.Control
          size="sm"
          value={username}
          placeholder="Name to sign in with"
          aria-label="Name of who is invited"
          onChange={(event) => setUsername(event.target.value)}
        />
        <Form.Select
          size="sm"
          value={role}
          aria-label="Role of who is invited"
          onChange={(event) => setRole(event.target.value as Role)}
        >
          {ROLES.map(([name]) => (
            <option key={name}>{name}</option>
          ))}
        </Form.Select>
        <Button size="sm" type="submit" disabled={!username.trim() || invite.isPending}>
          Invite
        </Button>
      </div>
      {invite.error && <div className="lost small-text">{invite.error.message}</div>}
      {invite.data && (
        <div className="notice small-text mt-2" role="status">
          {link ? (
            <>
              Give {invite.data.member.username} this link; it signs in once, within 12 hours:{" "}
              <code className="mono">{window.location.origin + link}</code>
            </>
          ) : (
            `${invite.data.member.username} is known here and is a member now.`
          )}
        </div>
      )}
    </Form>
  );
}
