"""Training: a few groups a step; it goes on where it was stopped."""

import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import torch
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn
from safetensors.numpy import load_file, save_file
from tokenizers import Tokenizer
from torch.nn import functional as f

from doppio.core.models.folder import read_json
from training.groups import Group, Groups
from training.mining import Mined
from training.model import GatedJointEncoder

QUESTION_TOKENS, PASSAGE_TOKENS = 32, 168
RATES = {"matrices": 7e-4, "gates": 3e-2, "scale": 3e-2, "head": 5e-4}
KEEP_EVERY = 25
AVERAGE = 0.98
# Where a score begins to mean an answer; it is learned, and only begins here.
ABSOLUTE, OFFSET = 0.2, 25.0


class Trainer:
    """A model in training, kept in a folder every few steps."""

    def __init__(self, weights: Path, folder: Path, manuals: Sequence[Mined], steps: int) -> None:
        self.folder, self.steps = folder, steps
        self.groups = Groups(manuals)
        self.model = GatedJointEncoder(load_file(weights / "model.safetensors"), read_json(weights / "config.json"))
        self.tokenizer = Tokenizer.from_file(str(weights / "tokenizer.json"))
        self.tokenizer.no_padding()
        self.tokenizer.no_truncation()
        self.offset = torch.nn.Parameter(torch.tensor(OFFSET))
        model = self.model
        self.optimizer = torch.optim.AdamW(
            [
                {"params": [*model.down.values(), *model.up.values()], "lr": RATES["matrices"]},
                {"params": [model.gates], "lr": RATES["gates"], "weight_decay": 0.0},
                {"params": [model.scale, model.matches, self.offset], "lr": RATES["scale"], "weight_decay": 0.0},
                {"params": list(model.head.parameters()), "lr": RATES["head"]},
            ],
            weight_decay=0.01,
        )
        self._first = [group["lr"] for group in self.optimizer.param_groups]
        self.average = {name: value.detach().clone() for name, value in model.named_parameters()}
        self.step = 0
        self.losses: list[float] = []
        self._resume()

    def run(self) -> None:
        """Train to the last step, from where it was stopped."""
        columns = (TextColumn("{task.description}"), BarColumn(20), MofNCompleteColumn(), TimeRemainingColumn(),
                   TextColumn("{task.fields[told]}"))  # fmt: skip
        with Progress(*columns) as bar:
            task = bar.add_task(self.folder.name, total=self.steps, completed=self.step, told="")
            while self.step < self.steps:
                begun = time.perf_counter()
                self.losses.append(self._step())
                self.step += 1
                told = f"loss {np.mean(self.losses[-40:]):.3f}, {time.perf_counter() - begun:.1f} s a step"
                bar.update(task, completed=self.step, told=told)
                if self.step % KEEP_EVERY == 0 or self.step == self.steps:
                    self._keep()
                    gates = self.model.gates.detach().mean((0, 1)).tolist()
                    matches = self.model.matches.item()
                    line = f"step {self.step} {told} gates {gates[0]:.2f} {gates[1]:.2f} matches {matches:.1f}"
                    (self.folder / "log.txt").open("a").write(line + "\n")
        draft = self.folder / "learned.draft"
        save_file(self.learned(), draft)
        draft.replace(self.folder / "learned.safetensors")

    def learned(self) -> dict[str, Any]:
        """What the average of the last steps' models learned."""
        current = {name: value.detach().clone() for name, value in self.model.named_parameters()}
        self.model.load_state_dict(self.average, strict=False)
        found = self.model.learned()
        self.model.load_state_dict(current, strict=False)
        return found

    def _step(self) -> float:
        share = max(0.02, 1 - self.step / self.steps) * min(1.0, (self.step + 1) / 20)
        for group, rate in zip(self.optimizer.param_groups, self._first, strict=True):
            group["lr"] = rate * share
        groups = self.groups.step(self.step)
        scores = self._scores(groups)
        table = scores.view(len(groups), -1)
        answered = torch.tensor([group.answered for group in groups])
        listwise = f.cross_entropy(table[answered], torch.zeros(int(answered.sum()), dtype=torch.long))
        truth = torch.zeros_like(table)
        truth[:, 0] = answered.float()
        absolute = f.binary_cross_entropy_with_logits(table - self.offset, truth)
        self.optimizer.zero_grad()
        (listwise + ABSOLUTE * absolute).backward()
        torch.nn.utils.clip_grad_norm_(self.model.parameters(), 1.0)
        self.optimizer.step()
        keep = min(AVERAGE, self.step / (self.step + 10))
        with torch.no_grad():
            for name, value in self.model.named_parameters():
                self.average[name].mul_(keep).add_(value, alpha=1 - keep)
        return float(listwise.detach())

    def _scores(self, groups: Sequence[Group]) -> torch.Tensor:
        """Scores of all pairs, run in three parts of like length."""
        questions, passages = [], []
        for group in groups:
            asked_ids = self._ids(group.question, QUESTION_TOKENS)
            for passage in group.passages:
                questions.append(asked_ids)
                passages.append(self._ids(passage, PASSAGE_TOKENS))
        order = np.argsort([len(q) + len(p) for q, p in zip(questions, passages, strict=True)], kind="stable")
        parts = [
            self.model([questions[row] for row in part], [passages[row] for row in part])
            for part in np.array_split(order, 3)
        ]
        return torch.cat(parts)[torch.from_numpy(np.argsort(order, kind="stable"))]

    def _ids(self, text: str, most: int) -> list[int]:
        ids = self.tokenizer.encode(text).ids
        return ids if len(ids) <= most + 2 else [*ids[: most + 1], ids[-1]]

    def _keep(self) -> None:
        state = {
            "step": self.step, "losses": self.losses, "optimizer": self.optimizer.state_dict(),
            "model": self.model.state_dict(), "average": self.average, "offset": self.offset.detach(),
        }  # fmt: skip
        self.folder.mkdir(parents=True, exist_ok=True)
        draft = self.folder / "state.draft"
        torch.save(state, draft)
        draft.replace(self.folder / "state.pt")

    def _resume(self) -> None:
        kept = self.folder / "state.pt"
        if not kept.exists():
            return
        state = torch.load(kept)
        self.step, self.losses, self.average = state["step"], state["losses"], state["average"]
        self.model.load_state_dict(state["model"])
        self.optimizer.load_state_dict(state["optimizer"])
        with torch.no_grad():
            self.offset.copy_(state["offset"])
