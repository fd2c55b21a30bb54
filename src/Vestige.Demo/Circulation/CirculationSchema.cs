namespace Vestige.Demo.Circulation;

/// <summary>The tables of the invented county's circulation database.</summary>
public static class CirculationSchema
{
    public const string Name = "circulation";

    /// <summary>Statements in the order in which they run.</summary>
    public static IReadOnlyList<string> Statements { get; } =
    [
        "CREATE TABLE branch (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, name TEXT NOT NULL, town TEXT NOT NULL)",
        "CREATE TABLE patron_category (code TEXT NOT NULL PRIMARY KEY, label TEXT NOT NULL, loan_days INTEGER NOT NULL, fee_per_day "
            + "NUMERIC NOT NULL)",
        """
            CREATE TABLE patron (
              id INTEGER PRIMARY KEY, card TEXT NOT NULL UNIQUE, full_name TEXT NOT NULL, email TEXT, address TEXT,
              category TEXT NOT NULL REFERENCES patron_category (code), home_branch INTEGER NOT NULL REFERENCES branch (id),
              joined_on TEXT NOT NULL, open_loans INTEGER NOT NULL)
            """,
        "CREATE TABLE title (id INTEGER PRIMARY KEY, name TEXT NOT NULL, author TEXT NOT NULL, year INTEGER, subject TEXT)",
        """
            CREATE TABLE copy (
              id INTEGER PRIMARY KEY, barcode TEXT NOT NULL UNIQUE, title_id INTEGER NOT NULL REFERENCES title (id),
              branch_id INTEGER NOT NULL REFERENCES branch (id), status TEXT NOT NULL, price NUMERIC)
            """,
        """
            CREATE TABLE loan (
              id INTEGER PRIMARY KEY, copy_id INTEGER NOT NULL REFERENCES copy (id), patron_id INTEGER NOT NULL REFERENCES patron (id),
              lent_at TEXT NOT NULL, due_on TEXT NOT NULL, returned_at TEXT, renewals INTEGER NOT NULL)
            """,
        """
            CREATE TABLE hold (
              id INTEGER PRIMARY KEY, title_id INTEGER NOT NULL REFERENCES title (id), patron_id INTEGER NOT NULL REFERENCES patron (id),
              placed_at TEXT NOT NULL, state TEXT NOT NULL)
            """,
        """
            CREATE TABLE fine (
              id INTEGER PRIMARY KEY, loan_id INTEGER NOT NULL REFERENCES loan (id), amount NUMERIC NOT NULL, raised_at TEXT NOT NULL,
              settled INTEGER NOT NULL)
            """,
        """
            CREATE TABLE payment (
              fine_id INTEGER NOT NULL REFERENCES fine (id), number INTEGER NOT NULL, amount NUMERIC NOT NULL, paid_at TEXT NOT NULL,
              PRIMARY KEY (fine_id, number))
            """,
        "CREATE TABLE opening_note (branch_id INTEGER NOT NULL REFERENCES branch (id), day TEXT NOT NULL, note TEXT, PRIMARY KEY "
            + "(branch_id, day))",
    ];
}
