"""Draws the figures that server_loads.py wrote as a chart: how long other ways take, where Kanal takes 1.

python benchmarks/chart.py figures.json docs/benchmarks.png
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import matplotlib as mpl

mpl.use("agg")
import matplotlib.pyplot as plt


def main() -> None:
    figures = json.loads(Path(sys.argv[1]).read_text())
    cases = {name: ways for name, ways in figures.items() if isinstance(ways, dict)}
    labels, lengths, colours = [], [], []
    for name, ways in cases.items():
        for way, ratio in ways.items():
            if way != "kanal":
                labels.append(f"{name}\n{way}")
                lengths.append(ratio)
                colours.append("#b9c4c9" if "hand" in way else "#d9a441")
    figure, axes = plt.subplots(figsize=(11, 0.62 * len(labels) + 1.4))
    axes.barh(range(len(labels)), lengths, color=colours, height=0.7)
    for place, length in enumerate(lengths):
        axes.text(max(length, 1) + 0.08, place, f"{length:.2f} ×", va="center")
    axes.set_yticks(range(len(labels)), labels, fontsize=9)
    axes.invert_yaxis()
    axes.axvline(1, color="#1b6e8a", linewidth=2)
    axes.text(1.06, -0.72, "Kanal = 1", color="#1b6e8a", va="center", weight="bold")
    axes.set_xlabel("time, as a multiple of Kanal's (1,000,000 rows, whole process; shorter is quicker)")
    axes.set_xlim(0, max(lengths) * 1.1)
    axes.spines[["top", "right"]].set_visible(False)
    figure.tight_layout()
    figure.savefig(sys.argv[2], dpi=110)


if __name__ == "__main__":
    main()
