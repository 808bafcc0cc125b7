"""The verdicts of a thousand simulated boards in one query.

Needs Deep Tap with its Parquet output, and a query engine; duckdb is asked here, `fleet.py` asks another:

    cargo build --release --features deep-tap-cli/parquet
    python3 -m venv venv && venv/bin/pip install duckdb
    venv/bin/python examples/thousand_boards.py target/release/deep-tap 1000

Each board is recorded once and checked against its limits. Every single occurrence goes into a folder of
tables, partitioned by board and part, to which the boards of the next day can be added. A query engine
that knows nothing of Deep Tap then tells which limits fail on how many boards, and by how much
at the worst (`boards.sql`). Give a folder as third argument to keep the tables.
"""

import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
QUERY = (ROOT / "examples/boards.sql").read_text()


def record(tool: str, boards: int, tables: Path) -> None:
    """Records the boards, and checks them into a folder of tables."""
    tool, tables = str(Path(tool).resolve()), tables.resolve()
    with tempfile.TemporaryDirectory() as folder:
        setups = Path(folder) / "setups"
        setups.mkdir()
        (Path(folder) / "parts").symlink_to(ROOT / "parts")
        text = (ROOT / "setups/tide-gauge.toml").read_text()
        # A few milliseconds of bus traffic per board are enough for a survey.
        short = text.replace('length = "25 ms"', 'length = "8 ms"').replace('"20 %"', '"4 ms"')
        (setups / "board.toml").write_text(short)
        capture = [tool, "capture", "setups/board.toml", "--repeat", str(boards), "--output", "board.dtap"]
        subprocess.run(capture, cwd=folder, check=True, stdout=subprocess.DEVNULL)
        captures = sorted(str(path.name) for path in Path(folder).glob("*.dtap"))
        check = [tool, "check", *captures, "--occurrences", f"{tables}/", "--format", "csv"]
        # 1 says that something is violated, which is no surprise here.
        done = subprocess.run(check, cwd=folder, check=False, stdout=subprocess.DEVNULL)
        if done.returncode not in (0, 1, 3):
            sys.exit(done.returncode)
        print(f"{len(captures)} boards")


def main(tool: str, boards: int, tables: Path) -> int:
    import duckdb

    record(tool, boards, tables)
    occurrences = duckdb.read_parquet(f"{tables}/*/*/*.parquet", hive_partitioning=True)  # noqa: F841
    duckdb.sql(QUERY).show(max_width=140)
    return 0


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as temporary:
        chosen = Path(sys.argv[3]) if len(sys.argv) > 3 else Path(temporary) / "tables"
        sys.exit(main(sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 1000, chosen))
