"""Fixtures shared by all tests: the sample shop's files and a way to run the command line."""

import contextlib
import io
import os
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

os.environ.setdefault(
    "OPENBLAS_NUM_THREADS", "1"
)  # the command line sets this as well; tests use all cores anyway

import psycopg
import pytest
import sqlalchemy
from hypothesis import settings

from fairladder.cli.app import main
from fairladder.demo import FILES, SHOP

#: URL of a PostgreSQL database for tests; tests that need it are skipped without one. Each worker
#: writes to its own schema.
POSTGRES, SCHEMA = (
    os.environ.get("FAIRLADDER_POSTGRES"),
    f"test_{os.environ.get('PYTEST_XDIST_WORKER', 'alone')}",
)
if POSTGRES:
    with psycopg.connect(POSTGRES, autocommit=True) as first:
        first.execute(f"CREATE SCHEMA IF NOT EXISTS {SCHEMA}".encode())
    POSTGRES += f"?options=-csearch_path%3D{SCHEMA}&application_name={SCHEMA}"
#: URL of a MariaDB for tests. Each worker writes to its own database, whose name starts with this
#: one's.
MARIADB = os.environ.get("FAIRLADDER_MARIADB")
if MARIADB:
    MARIADB = MARIADB.replace("mariadb:", "mariadb+pymysql:")
    own = f"{sqlalchemy.make_url(MARIADB).database}_{SCHEMA}"
    engine = sqlalchemy.create_engine(MARIADB)
    with engine.connect() as first:
        first.exec_driver_sql(f"CREATE DATABASE IF NOT EXISTS {own}")
    engine.dispose()
    MARIADB = sqlalchemy.make_url(MARIADB).set(database=own).render_as_string(hide_password=False)
needs_mariadb = pytest.mark.skipif(
    not MARIADB, reason="no MariaDB: set FAIRLADDER_MARIADB to the URL of an empty database"
)
needs_postgres = pytest.mark.skipif(
    not POSTGRES, reason="no PostgreSQL: set FAIRLADDER_POSTGRES to the URL of an empty database"
)


#: The available databases, and all databases with skip marks.
DATABASES = ["sqlite", *(["postgres"] if POSTGRES else []), *(["mariadb"] if MARIADB else [])]
EACH_DATABASE = [
    "sqlite",
    pytest.param("postgres", marks=needs_postgres),
    pytest.param("mariadb", marks=needs_mariadb),
]


#: Tests that take long and find little that others miss. ``pytest -m thorough`` runs them, as CI
#: does.
THOROUGH = frozenset(
    f"test_{name}"
    for name in """
    examples_in_every_help_run commands_write_complete_figures_and_all_parts
    very_long_last_line_is_refused figure_texts_are_neither_cut_nor_covered
    batched_rescoring_equals_single_rescoring value_command_parts_and_scheme
    saved_scorings_paths_and_drift_of_the_sample_shop json_written_in_batches_equals_json_in_one
    saved_list_needs_no_conditions_and_plan_needs_no_list questions_appear_only_at_a_terminal
    when_sort_columns_and_csv_style_options forecast_figures_match_the_backtest
    changed_files_are_read_again_and_reported money_is_converted_and_rounded_once
    database_value_campaigns_and_comparisons_equal_files docstring_examples_run
    progress_of_forecast_resamples_and_parquet season_clock_forecasts_and_keeps_quiet_customers_active
    earlier_misses_widen_the_range_beyond_the_model existing_file_name_is_not_a_pattern
    user_column_named_like_a_forecast_is_omitted
    report_of_a_database_equals_that_of_the_file headers_do_not_clash_with_our_names
    database_conditions_ranges_and_zones_equal_embedded write_back_is_all_or_nothing
    reduction_sql_gives_the_customers_in_every_dialect smallest_purchase_for_rules_with_amounts
    row_numbers_are_line_numbers_with_several_threads worth_of_a_change_and_of_a_return
    campaign_command_from_list_to_lift scheme_sql_equals_score_in_every_engine
    lines_file_equals_joined_rows money_columns_have_decimals_in_every_part
    outputs_never_overwrite_inputs unusual_histories_give_finite_forecasts_with_notes
    receipt_matches_its_list saved_ladders_score_another_day_and_report_drift
    amount_columns_become_rows standing_equals_direct_counts conditions_in_advice_can_be_pasted
    workbook_formulas_recalculate_to_stored_values frames_of_other_libraries_are_read
    scrolling_to_the_end_shows_the_last_customers stability_equals_rescoring
    page_has_no_serious_accessibility_violations_and_no_cut_text ladder_sql_equals_place
    errors_are_printed_below_every_result_until_allowed month_names_are_read_in_their_language
    shortcuts_give_the_same_results_for_messy_rows all_output_formats_contain_the_same_customers
    impossible_history_questions_are_refused recent_deviations_widen_the_range
    what_if_change_is_within_its_range report_of_one_customer_and_of_none
    """.split()
)
#: Tests with many cases, of which the others than the first are thorough.
FIRST_CASE_IS_QUICK = frozenset(
    f"test_{name}"
    for name in """
    every_command_shows_every_finding purchase_changes_the_columns_of_its_rule
    explained_change_moves_the_customer_and_nothing_smaller_does many_formats_give_the_same_bytes
    database_gives_the_same_bytes_as_files
    start_guesses_right_and_its_scheme_works assumptions_are_printed_above_the_result_with_their_money
    first_and_latest_order_columns_match_pandas
    sum_of_column_matches_pandas example_runs encodings_are_detected
    only_currency_words_are_removed_from_amounts
    export_is_read_correctly_from_the_file_alone
    ambiguous_amounts_are_proven_or_raise_a_question report_command
    """.split()
)


def pytest_collection_modifyitems(items):
    """Mark the thorough tests."""
    seen = set()
    for item in items:
        name = item.name.split("[")[0]
        if name in THOROUGH or (name in FIRST_CASE_IS_QUICK and name in seen):
            item.add_marker(pytest.mark.thorough)
        seen.add(name)


def times(examples):
    """Return the number of random examples: few by default, FAIRLADDER_MORE times as many on
    request.
    """
    return int(examples * float(os.environ.get("FAIRLADDER_MORE", "1")))


settings.register_profile(
    "unhurried", deadline=None
)  # machines are noisy; benchmarks measure speed
settings.load_profile("unhurried")
os.environ["TZ"] = "Pacific/Kiritimati"  # far from UTC, since the machine's zone must never matter


@pytest.fixture(scope="session")
def shop(tmp_path_factory):
    folder = tmp_path_factory.mktemp("shop")
    for name in FILES:
        (folder / name).write_bytes((SHOP / name).read_bytes())
    return folder


def in_database(kind, frame, folder, table="orders"):
    """Write the frame to a table of a database; return the address for ``open_orders``."""
    url = {
        "sqlite": f"sqlite:///{folder / 'orders.db'}",
        "postgres": (POSTGRES or "").replace("postgresql:", "postgresql+psycopg:"),
        "mariadb": MARIADB,
    }[kind]
    # A connection left open by a failed test would block the next one forever.
    waits = (
        {"options": f"-c lock_timeout=20s -c search_path={SCHEMA}"} if kind == "postgres" else {}
    )
    engine = sqlalchemy.create_engine(url, connect_args=waits)
    frame.to_sql(table, engine, if_exists="replace", index=False)
    engine.dispose()
    return url.replace("+psycopg", "")


@dataclass
class Done:
    returncode: int
    stdout: str
    stderr: str


@pytest.fixture
def fairladder(monkeypatch):
    """Run the command line in this process: ``fairladder("score", path, …)`` → exit code and
    output.
    """

    def run(*words, cwd=None, input=""):  # noqa: A002  # as subprocess has it
        out, err = io.StringIO(), io.StringIO()
        monkeypatch.setattr(sys, "argv", ["fairladder", *map(str, words)])
        monkeypatch.setattr(sys, "stdin", io.TextIOWrapper(io.BytesIO(input.encode())))
        here = contextlib.chdir(cwd) if cwd else contextlib.nullcontext()
        with here, contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            try:
                main()
                code = 0
            except SystemExit as done:
                code = int(done.code or 0)
        return Done(code, out.getvalue(), err.getvalue())

    return run


@pytest.fixture(scope="session")
def process():
    """Run the command line in a process of its own, as users do."""

    def run(*words):
        command = [str(Path(sys.executable).with_name("fairladder")), *map(str, words)]
        return subprocess.run(command, capture_output=True, text=True, timeout=120, check=False)

    return run
