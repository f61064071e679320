"""Open order rows in a database, which runs the reduction if it can; otherwise rows are brought
here.
"""

from fairladder.engine.database import Database
from fairladder.orders.source import Source, kinds_of, own_names
from fairladder.scheme import OrdersPart
from fairladder.wording import counted


def open_database(url: str, settings: OrdersPart) -> Source:
    """Open a table or query of the database at a SQLAlchemy URL as a Source, read only.

    In SQLite, PostgreSQL and MariaDB the reduction runs in the database and only customers are
    transferred. Raises UsageError for a wrong address, table or query, DataError if the database
    does not answer.
    """
    database = Database(url)
    relation = database.relation(settings.table, settings.query)
    name = "a query" if settings.query else settings.table or relation.name
    label = f"{name} in {database.label}"
    if not database.works_itself:
        table = database.fetch_all(relation)
        relation, notes = (
            database.reader.offer(table),
            (f"{counted(len(table), 'rows', 'were')} transferred from {database.label}.",),
        )
        kinds = kinds_of(database.reader.columns(relation), label)
        return Source(
            label, own_names(relation, kinds), kinds, database.reader, text=False, notes=notes
        )
    types, note = database.columns(relation), database.note(relation)
    relation = own_names(database.by_code_point(relation, types), types)
    return Source(
        label, relation, kinds_of(types, label), database, text=False, notes=(note,) if note else ()
    )
