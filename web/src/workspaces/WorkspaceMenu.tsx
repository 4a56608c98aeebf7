// The workspace's name in the header: the way to the others, to a new one, and to what this one is.
import { useState } from "react";
import { Dropdown, Modal } from "react-bootstrap";
import { useNavigate } from "react-router";
import { useWorkspaces } from "../api/queries";
import { addressOf, useOwnWorkspace } from "../shell/workspace";
import { BringBack } from "./BringBack";
import { MakeWorkspace, ReadWorkspace } from "./MakeWorkspace";
import { WorkspaceSettings } from "./WorkspaceSettings";
import { counted } from "../text/numbers";

export function WorkspaceMenu() {
  const own = useOwnWorkspace();
  const others = useWorkspaces();
  const navigate = useNavigate();
  const [making, setMaking] = useState(false);
  const [settings, setSettings] = useState(false);
  return (
    <>
      <Dropdown>
        <Dropdown.Toggle variant="link" className="workspace-name">
          {own.name}
        </Dropdown.Toggle>
        <Dropdown.Menu className="workspace-menu">
          {others.data?.map((one) => (
            <Dropdown.Item key={one.id} href={addressOf(one.id)} active={one.id === own.id}>
              <span className="text-truncate">{one.name}</span>
              <span className="small-text num">
                {counted(one.documents, "document")}, {one.role}
              </span>
            </Dropdown.Item>
          ))}
          <Dropdown.Divider />
          <Dropdown.Item as="button" onClick={() => setMaking(true)}>
            New workspace
          </Dropdown.Item>
          <Dropdown.Item as="button" onClick={() => navigate("/history")}>
            History
          </Dropdown.Item>
          <Dropdown.Item as="button" onClick={() => setSettings(true)}>
            Members and settings
          </Dropdown.Item>
        </Dropdown.Menu>
      </Dropdown>
      <Modal show={making} onHide={() => setMaking(false)} aria-labelledby="make-workspace">
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="make-workspace">
            New workspace
          </Modal.Title>
        </Modal.Header>
        <Modal.Body className="d-grid gap-3">
          <MakeWorkspace />
          <ReadWorkspace />
          <BringBack />
        </Modal.Body>
      </Modal>
      {settings && <WorkspaceSettings close={() => setSettings(false)} />}
    </>
  );
}
