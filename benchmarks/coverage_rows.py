"""Rows of the coverage benchmarks: kept in a CSV file, so that a run can be interrupted, and shown as a table."""

import csv


def read_rows(path):
    if not path.exists():
        return []
    with path.open() as file:
        return list(csv.DictReader(file))


def append_row(path, fields, row):
    new = not path.exists()
    with path.open("a") as file:
        writer = csv.DictWriter(file, fields)
        if new:
            writer.writeheader()
        writer.writerow(row)


def table_lines(rows, columns):
    """Of a table in Markdown."""
    lines = [f"| {' | '.join(column.replace('_', ' ') for column in columns)} |", "|" + "---|" * len(columns)]
    return [*lines, *(f"| {' | '.join(row[column] for column in columns)} |" for row in rows)]
