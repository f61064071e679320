"""Test that a user's SELECT reaches each database unchanged, and what is refused."""

import pytest
import sqlalchemy

import fairladder as fl
from conftest import EACH_DATABASE, in_database, needs_postgres
from fairladder.engine.database import Database
from fairladder.sqltree import select

#: Expressions over ``code`` (text), ``num`` (float) and ``note`` (text, some null), by database.
EVERYWHERE = [
    "code", "upper('ß')", "lower(code)", "code LIKE 'a%'", "code LIKE 'A_'", "code NOT LIKE 'a%'",
    "code LIKE '10!%' ESCAPE '!'", "round(2.5)", "round(-2.5)", "num / 3", "7 / 2", "7 % 3", "-7 % 3",
    "coalesce(note, 'x')", "nullif(code, 'ab')", "length(code)", "trim('  a ')",
    "replace(code, 'a', 'b')", "substr(code, 2)", "case when num > 1 then 'big' else 'small' end",
    "cast(num as integer)", "abs(-num)", "num BETWEEN 1 AND 2", "code IN ('ab', 'Ab')",
    "note IS NULL", "count(*) over ()", "'it''s'", "'a\n b'", "1e3", "'--no comment'",
    "'/* none */'", "1 - -1", "(SELECT max(num) FROM codes)", "1 /* one */ + 1 -- two\n",
    "EXISTS (SELECT 1 FROM codes WHERE num > 2)", "max(num) over (order by code rows 1 preceding)",
]  # fmt: skip
OF_DATABASE = {
    "sqlite": [
        "code GLOB 'a*'", "typeof(num)", "printf('%.2f', num)", "code || 1", '"code"', "[code]",
        "`code`", "ifnull(note, 'n')", "instr(code, 'b')", "date('2026-01-31', '+1 month')",
        "strftime('%Y', '2026-02-03')", "hex('a')", "x'41'", "quote(code)", "num IS NOT 1",
        "max(1, 2)", "code COLLATE NOCASE = 'AB'", "cast('12abc' as integer)", "upper('aé')",
        "floor(2.5)", "round(0.125, 2)", "iif(num > 1, 1, 2)", "substr(code, -1)", "char(97, 98)",
        "code LIKE 'a\\%'",
    ],
    "postgres": [
        "code LIKE '10\\%'", "code NOT LIKE '10\\%'", "code ILIKE 'AB'", "code SIMILAR TO '(a|A)b'",
        "code ~ '^a'", "to_hex(255)", "@ -5", "5 >= ALL(ARRAY[1,2])", "1 = ANY(ARRAY[1,2])",
        "date_bin('1 day', timestamp '2026-01-02 03:00', timestamp '2001-01-01')",
        "round(2.5::float8)", "round(0.5::float8)", "'a' || 1", "E'a\\nb'", "$$it's$$", "$q$a;b$q$",
        "date '2026-01-31' + interval '1 month'", "extract(dow from date '2026-01-04')",
        "to_char(1234.5, 'FM9,999.00')", "(ARRAY[1,2])[1]", "'{\"a\": 1}'::json->>'a'", "trunc(2.7)",
        "1::text", "code COLLATE \"C\" < 'B'", "num::numeric(10,1)", "substring(code from 2)",
        "position('b' in code)", "overlay('abc' placing 'x' from 2)", "string_to_array('a,b', ',')",
        "bool_or(num > 1) over ()", "true AND NOT false", "codes.num", "(codes).num",
    ],
    "mariadb": [
        "code LIKE '10\\%'", "code NOT LIKE '10\\%'", "code LIKE BINARY 'ab'", "'a' 'b'", "'a\\nb'",
        '"text"', "5 DIV 2", "5 MOD 2", "1 <=> NULL", "code REGEXP '^a'", "if(num > 1, 'x', 'y')",
        "concat('a', 1)", "hex(255)", "conv('ff', 16, 10)",
        "date_add('2026-01-31', interval 1 month)", "date_format('2026-02-03', '%d.%m.%Y')",
        "str_to_date('03.02.2026', '%d.%m.%Y')", "5 | 2", "5 ^ 1", "~1", "0x41", "b'11'",
        "truncate(2.78, 1)", "timestampdiff(day, '2026-01-01', '2026-02-01')", "ifnull(note, 'n')",
        "'10%' LIKE '10\\%'", "1 XOR 0", "code = 'AB'", "code COLLATE utf8mb4_bin = 'AB'",
        "left(code, 1)", "char_length('ß')", "cast(num as decimal(10,1))", "num + '1'", "1--1",
    ],
}  # fmt: skip


@pytest.fixture
def codes(tmp_path):
    import pandas as pd

    def made(kind):
        frame = pd.DataFrame(
            {"code": ["ab", "Ab", "10%", "10\\%"], "num": [1.25, 2.5, 0.125, 3.0],
             "note": [None, "n", "", None]}
        )  # fmt: skip
        return in_database(kind, frame, tmp_path, "codes")

    return made


@pytest.mark.parametrize("kind", EACH_DATABASE)
def test_query_means_the_same_as_in_the_database(codes, kind):
    """The values of each expression, compared with those that the database's own driver returns."""
    url = codes(kind)
    driver = sqlalchemy.create_engine(url.replace("postgresql:", "postgresql+psycopg:"))
    found = Database(url)
    for expression in [*EVERYWHERE, *OF_DATABASE[kind]]:
        query = f"SELECT code AS id, {expression} AS x FROM codes"
        with driver.connect() as connection:
            escaped = query if kind == "sqlite" else query.replace("%", "%%")
            theirs = sorted(str(tuple(row)) for row in connection.exec_driver_sql(escaped))
        rows = found._connection.exec_driver_sql(
            found._text(select(["*"], found.relation(None, query)))
        )
        assert sorted(str(tuple(row)) for row in rows) == theirs, expression
    driver.dispose()


@pytest.mark.parametrize("kind", EACH_DATABASE)
def test_orders_of_a_query_are_read(codes, kind):
    """A user's own WITH, a name like one of our layers, and a semicolon with a comment after it."""
    query = (
        "WITH priced AS (SELECT code, num FROM codes WHERE code LIKE '%b')\n"
        "SELECT code AS customer, '2026-01-05' AS placed, num AS amount FROM priced; -- done"
    )
    orders = fl.open_orders(codes(kind), scheme={"orders": {"query": query}})
    assert orders.customers()[["customer", "spend"]].to_numpy().tolist() == [
        ["Ab", 2.5],
        ["ab", 1.25],
    ]
    assert "codes" in orders.sql()


@pytest.mark.parametrize("kind", EACH_DATABASE)
@pytest.mark.parametrize(
    "query",
    [
        "DROP TABLE codes", "SELECT 1; DELETE FROM codes", "DELETE FROM codes", "", ";",
        "WITH d AS (DELETE FROM codes RETURNING *) SELECT * FROM d", "SELECT * INTO other FROM codes",
        "SELECT * FROM codes FOR UPDATE", "SELECT @ 1, 1 FROM codes; DELETE FROM codes",
    ],
)  # fmt: skip
def test_anything_but_one_select_is_refused(codes, kind, query):
    with pytest.raises(fl.UsageError, match=r"one SELECT|cannot be read"):
        Database(codes(kind)).relation(None, query)


@needs_postgres
@pytest.mark.parametrize(
    "query",
    [
        "SELECT pg_sleep(1)", "SELECT @ 5, pg_sleep(1)", 'SELECT "pg_sleep"(1)',
        "SELECT public.upper('a')", "SELECT pg_read_file('x')", "SELECT 1 WHERE dblink('x') > @ 5",
    ],
)  # fmt: skip
def test_functions_that_could_change_something_are_refused(codes, query):
    """Also in queries that the SQL library cannot parse (``@ 5``), quoted, or of another schema."""
    with pytest.raises(fl.UsageError, match="not on the list of functions"):
        Database(codes("postgres")).relation(None, query)


@needs_postgres
def test_function_called_like_a_column_is_refused(codes):
    url = codes("postgres")
    driver = sqlalchemy.create_engine(url.replace("postgresql:", "postgresql+psycopg:"))
    with driver.begin() as connection:
        connection.exec_driver_sql(
            "CREATE OR REPLACE FUNCTION evil(r codes) RETURNS text LANGUAGE sql AS 'SELECT ''x''::text'"
        )
    try:
        with pytest.raises(fl.UsageError, match="uses `evil` like a column"):
            Database(url).relation(None, "SELECT codes.evil FROM codes")
        assert Database(url).relation(None, "SELECT codes.code FROM codes")
    finally:
        with driver.begin() as connection:
            connection.exec_driver_sql("DROP FUNCTION evil(codes)")
        driver.dispose()


@pytest.mark.parametrize("kind", [k for k in EACH_DATABASE if "mariadb" in str(k)])
def test_commands_in_comments_are_not_sent(codes, kind):
    text = Database(codes(kind)).relation(None, "SELECT code /*!50000 , nothing */ FROM codes")
    found = Database(codes(kind))
    relation = found.relation(None, "SELECT code /*!50000 , nothing */ FROM codes")
    assert found.table(select(["*"], relation)).column_names == ["code"]
    assert text is not None
