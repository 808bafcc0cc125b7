"""The same question as in `thousand_boards.py`, asked of an engine that runs on many machines.

When the tables of a fleet outgrow one machine, they move to where such an engine reads them (a file system of a
cluster, an object store), and nothing else changes: the same folder, the same query, the same answer. Here
the engine is Apache Spark in its local mode, which needs a Java runtime:

    python3 -m venv venv && venv/bin/pip install pyspark duckdb
    venv/bin/python examples/thousand_boards.py target/release/deep-tap 100 tables
    venv/bin/python examples/fleet.py tables

`--master` names a cluster instead. With duckdb installed, both answers are compared.
"""

import argparse
import sys
from pathlib import Path

from pyspark.sql import SparkSession

QUERY = (Path(__file__).resolve().parent / "boards.sql").read_text()


def ask_cluster(tables: str, master: str) -> list[tuple]:
    spark = SparkSession.builder.master(master).appName("boards").getOrCreate()
    spark.sparkContext.setLogLevel("ERROR")
    spark.read.parquet(tables).createOrReplaceTempView("occurrences")
    answer = spark.sql(QUERY)
    answer.show(100, truncate=False)
    rows = [tuple(row) for row in answer.collect()]
    spark.stop()
    return rows


def ask_here(tables: str) -> list[tuple] | None:
    try:
        import duckdb
    except ImportError:
        return None
    occurrences = duckdb.read_parquet(f"{tables}/*/*/*.parquet", hive_partitioning=True)  # noqa: F841
    return duckdb.sql(QUERY).fetchall()


def main() -> int:
    parser = argparse.ArgumentParser(description="Asks which limits fail on how many boards.")
    parser.add_argument("tables", help="the folder that check --occurrences wrote")
    parser.add_argument("--master", default="local[*]", help="the cluster; default: this machine")
    args = parser.parse_args()
    there, here = ask_cluster(args.tables, args.master), ask_here(args.tables)
    if here is None:
        return 0
    print("both engines give the same answer" if there == here else f"here it is {here}")
    return 0 if there == here else 1


if __name__ == "__main__":
    sys.exit(main())
