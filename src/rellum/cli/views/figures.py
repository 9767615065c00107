"""Figures for people: drawn with Matplotlib, which is imported only here and only when needed."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from rellum.core.errors import UserError

if TYPE_CHECKING:
    from rellum.core.actions.live.space import SpaceReport
    from rellum.core.layers.contested_paths import Conflicts
    from rellum.core.solving.game_versions import Cell, Outlook, VersionOutlook

_KINDS = (".png", ".svg")
# Dark enough beside light enough to be told apart in grey too; blue and orange for the colour-blind.
_LOOKS = {
    "ready": ("#1f4e79", "#ffffff", "●"),
    "other": ("#8fb8de", "#102a43", "○"),
    "tried": ("#d9e8f5", "#102a43", "◇"),
    "back": ("#d95f02", "#ffffff", "✕"),
    "gone": ("#f4f4f4", "#707070", "–"),
    "unknown": ("#ffffff", "#707070", "?"),
}
_WORDS = {
    "ready": "ready, as in the line-up",
    "other": "another release of it",
    "tried": "by a trial",
    "back": "holds the pack back",
    "gone": "not needed there",
    "unknown": "no line-up found",
}
_MOST_ROWS = 60


class BadFigure(UserError):
    """A figure cannot be written under that name."""

    code = "bad-figure"


def can_draw() -> bool:
    """Whether what figures are drawn with is installed."""
    from importlib.util import find_spec

    return find_spec("matplotlib") is not None


def check_figure_name(file: str) -> None:
    """Raise BadFigure unless a figure can be written to the file."""
    if not file.lower().endswith(_KINDS):
        raise BadFigure(
            f"a figure is written as .png or .svg, and {file} is neither",
            hint="Name it e.g. outlook.png.",
        )
    if not can_draw():
        raise BadFigure(
            "what figures are drawn with is not installed",
            hint="Install it with: pip install 'rellum[figures]'",
        )
    folder = os.path.dirname(os.path.abspath(file))
    if not os.path.isdir(folder):
        raise BadFigure(f"there is no folder {folder}", hint="Make it first, or name another.")


def draw_outlook(outlook: Outlook, file: str) -> None:
    """Draw mods by game versions: a colour and a sign in each field. Raises OSError."""
    import matplotlib

    matplotlib.use("Agg")
    matplotlib.rcParams.update({"font.family": "DejaVu Sans", "svg.hashsalt": "rellum"})
    from matplotlib import pyplot
    from matplotlib.patches import Rectangle

    rows = range(min(len(outlook.mods), _MOST_ROWS))
    columns = outlook.versions
    figure, axes = pyplot.subplots(
        figsize=(3.6 + 1.5 * len(columns), 1.7 + 0.42 * len(rows)), dpi=110
    )
    for x, version in enumerate(columns):
        for y, at in enumerate(rows):
            cell = version.cells[at]
            colour, ink, sign = _LOOKS[cell.status]
            axes.add_patch(
                Rectangle(
                    (x + 0.03, y + 0.06), 0.94, 0.88, facecolor=colour, edgecolor="#9aa5b1", lw=0.6
                )
            )
            axes.text(
                x + 0.5,
                y + 0.5,
                _text(cell, sign),
                ha="center",
                va="center",
                color=ink,
                fontsize=9.5,
            )
    axes.set_xlim(0, len(columns))
    axes.set_ylim(len(rows), 0)
    axes.set_xticks([x + 0.5 for x in range(len(columns))])
    axes.set_xticklabels([_column(each) for each in columns], fontsize=10)
    axes.xaxis.tick_top()
    axes.set_yticks([y + 0.5 for y in range(len(rows))])
    names = [outlook.mods[at] for at in rows]
    axes.set_yticklabels(
        [name if name in outlook.wanted else f"({name})" for name in names], fontsize=10
    )
    axes.tick_params(length=0)
    for spine in axes.spines.values():
        spine.set_visible(False)
    used = [kind for kind in _LOOKS if any(c.status == kind for v in columns for c in v.cells)]
    handles = [
        Rectangle((0, 0), 1, 1, facecolor=_LOOKS[kind][0], edgecolor="#9aa5b1", lw=0.6)
        for kind in used
    ]
    axes.legend(
        handles,
        [f"{_LOOKS[kind][2]}  {_WORDS[kind]}" for kind in used],
        loc="upper center",
        bbox_to_anchor=(0.5, -0.03),
        ncols=min(3, len(used)),
        frameon=False,
        fontsize=9,
    )
    axes.set_title(
        "Which game versions the pack can move to", loc="left", fontsize=12, pad=14, weight="bold"
    )
    metadata = {"Date": None} if file.lower().endswith(".svg") else {"Software": None}
    figure.savefig(file, bbox_inches="tight", metadata=metadata)
    pyplot.close(figure)


def draw_conflicts(found: Conflicts, file: str) -> None:
    """Draw mods against mods: how many files of each row's mod each column's hides. Raises OSError."""
    import matplotlib

    matplotlib.use("Agg")
    matplotlib.rcParams.update({"font.family": "DejaVu Sans", "svg.hashsalt": "rellum"})
    from matplotlib import pyplot

    hidden = found.hidden_by()
    mods = [each.mod for each in found.shares if any(each.mod in pair for pair in hidden)]
    mods = mods[:_MOST_ROWS]
    counts = [[hidden[loser, winner] for winner in mods] for loser in mods]
    side = 2.6 + 0.62 * max(3, len(mods))
    figure, axes = pyplot.subplots(figsize=(side + 1.2, side), dpi=110)
    most = max((max(row) for row in counts), default=1) or 1
    axes.imshow(counts or [[0]], cmap="Blues", vmin=0, vmax=most * 1.25, aspect="equal")
    for y, row in enumerate(counts):
        for x, count in enumerate(row):
            ink = "#ffffff" if count > 0.6 * most else "#102a43"
            text = f"{count:,}" if count else ("" if x != y else "–")
            axes.text(x, y, text, ha="center", va="center", color=ink, fontsize=10)
    axes.set_xticks(range(len(mods)), mods, rotation=35, ha="left", fontsize=10)
    axes.set_yticks(range(len(mods)), mods, fontsize=10)
    axes.xaxis.tick_top()
    axes.tick_params(length=0)
    axes.set_xlabel("… is hidden by the mod above", fontsize=10, labelpad=10)
    axes.set_ylabel("files of …", fontsize=10)
    for spine in axes.spines.values():
        spine.set_color("#9aa5b1")
    axes.set_title(
        "Files that a mod loses to another", loc="left", fontsize=12, pad=16, weight="bold"
    )
    metadata = {"Date": None} if file.lower().endswith(".svg") else {"Software": None}
    figure.savefig(file, bbox_inches="tight", metadata=metadata)
    pyplot.close(figure)


def _column(version: VersionOutlook) -> str:
    name = f"game {version.game}" + (" (now)" if version.is_now else "")
    if version.give_up is None:
        return f"{name}\nno line-up"
    return f"{name}\n" + (f"without {len(version.give_up)}" if version.give_up else "all go")


def _text(cell: Cell, sign: str) -> str:
    shows_version = cell.release is not None and cell.status in ("ready", "other", "tried")
    return f"{sign}  {cell.release.label}" if shows_version and cell.release else sign


def draw_space(report: SpaceReport, file: str) -> None:
    """Draw what takes space as bars, with their sizes in words. Raises OSError."""
    import matplotlib

    matplotlib.use("Agg")
    matplotlib.rcParams.update({"font.family": "DejaVu Sans", "svg.hashsalt": "rellum"})
    from matplotlib import pyplot

    from rellum.cli.console import bytes_text

    uses = report.uses[::-1]
    figure, axes = pyplot.subplots(figsize=(9, 1.2 + 0.42 * len(uses)))
    axes.barh([each.name for each in uses], [each.bytes for each in uses], color="#1f4e79")
    most = max((each.bytes for each in uses), default=1) or 1
    for row, each in enumerate(uses):
        axes.text(each.bytes + most * 0.01, row, bytes_text(each.bytes), va="center", fontsize=9)
    axes.set_xlim(0, most * 1.15)
    axes.xaxis.set_visible(False)
    for side in ("top", "right", "bottom"):
        axes.spines[side].set_visible(False)
    axes.set_title(f"Space on disk: {bytes_text(report.total)} in all", loc="left", fontsize=12)
    figure.tight_layout()
    figure.savefig(
        file, dpi=110, metadata={"Date": None} if file.lower().endswith(".svg") else None
    )
    pyplot.close(figure)
