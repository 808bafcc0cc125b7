"""The verdicts of a thousand simulated boards in one query.

Needs the package duckdb, and Deep Tap with its Parquet output:

    cargo build --release --features deep-tap-cli/parquet
    python3 examples/thousand_boards.py target/release/deep-tap 1000

Each board is recorded once, all are checked against their limits, every single occurrence goes into one
Parquet file, and a query engine that knows nothing of Deep Tap asks which limits fail on how many boards,
and by how much at the worst.
"""

import subprocess
import sys
import tempfile
from pathlib import Path

import duckdb

ROOT = Path(__file__).resolve().parent.parent
QUERY = """
    WITH boards AS (
        SELECT part, "limit", unit, file,
               count(*) AS seen,
               count(*) FILTER (verdict = 'fail') AS failed,
               count(*) FILTER (verdict = 'inconclusive') AS open,
               min(least(coalesce(value - min, 1e9), coalesce(max - value, 1e9))) AS margin
        FROM read_parquet('{file}')
        GROUP BY ALL
    )
    SELECT part, "limit",
           sum(seen)::BIGINT AS occurrences,
           count(*) FILTER (failed > 0) AS boards_violating,
           count(*) FILTER (failed = 0 AND open > 0) AS boards_open,
           count(*) FILTER (failed = 0 AND open = 0) AS boards_passing,
           CASE WHEN min(margin) < 1e8 THEN format('{{:.4g}}', min(margin)) END AS worst_margin, unit
    FROM boards GROUP BY part, "limit", unit ORDER BY boards_violating DESC, part, "limit"
"""


def main(tool: str, boards: int) -> int:
    tool = str(Path(tool).resolve())
    with tempfile.TemporaryDirectory() as folder:
        setups = Path(folder) / "setups"
        setups.mkdir()
        (Path(folder) / "parts").symlink_to(ROOT / "parts")
        text = (ROOT / "setups/tide-gauge.toml").read_text()
        # A tenth of a second of bus traffic per board is enough for a survey.
        short = text.replace('length = "25 ms"', 'length = "8 ms"').replace('"20 %"', '"4 ms"')
        (setups / "board.toml").write_text(short)
        record = [tool, "capture", "setups/board.toml", "--repeat", str(boards), "--output", "board.dtap"]
        subprocess.run(record, cwd=folder, check=True, stdout=subprocess.DEVNULL)
        captures = sorted(str(path.name) for path in Path(folder).glob("*.dtap"))
        check = [tool, "check", *captures, "--occurrences", "all.parquet", "--format", "csv"]
        # Its exit code says that something is violated, which is no surprise here.
        subprocess.run(check, cwd=folder, check=False, stdout=subprocess.DEVNULL)
        print(f"{len(captures)} boards")
        duckdb.sql(QUERY.format(file=Path(folder) / "all.parquet")).show(max_width=140)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 1000))
