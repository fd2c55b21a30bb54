using SQLitePCL;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.StandIn.Catalogue;

/// <summary>Reads the tables of a stand-in, its own bookkeeping apart.</summary>
internal static class TableCatalogue
{
    public const string OwnPrefix = "vestige_";

    public static bool IsOwn(string table) =>
        table.StartsWith(OwnPrefix, StringComparison.OrdinalIgnoreCase) || table.StartsWith("sqlite_", StringComparison.OrdinalIgnoreCase);

    public static IReadOnlyList<TableSchema> Read(sqlite3 database, string schema)
    {
        var names = new List<string>();
        using (
            var tables = new Statement(
                database,
                "SELECT name FROM pragma_table_list WHERE schema = 'main' AND type = 'table' ORDER BY name",
                "catalogue"
            )
        )
        {
            while (tables.Step())
            {
                names.Add(tables.Text(0));
            }
        }

        return [.. names.Where(name => !IsOwn(name)).Select(name => ReadTable(database, schema, name))];
    }

    /// <summary>
    /// The statements of each table and of its indexes, by the table's name: another text where its form may be another. Only where there
    /// are virtual tables, which have no page, SQLite is asked which tables belong to those: it reads the columns of all to say so.
    /// </summary>
    public static IReadOnlyDictionary<string, string> Statements(sqlite3 database)
    {
        var found = new Dictionary<string, string>();
        using var master = new Statement(
            database,
            """
            SELECT tbl_name, coalesce(sql, '') FROM main.sqlite_schema WHERE type IN ('table', 'index')
                AND (NOT EXISTS (SELECT 1 FROM main.sqlite_schema WHERE type = 'table' AND rootpage = 0)
                    OR tbl_name IN (SELECT name FROM pragma_table_list WHERE schema = 'main' AND type = 'table'))
            ORDER BY tbl_name, type, name
            """,
            "catalogue"
        );
        while (master.Step())
        {
            var name = master.Text(0);
            if (!IsOwn(name))
            {
                found[name] = found.TryGetValue(name, out var before) ? $"{before};{master.Text(1)}" : master.Text(1);
            }
        }

        return found;
    }

    /// <summary>How many entries the catalogue has, and the number of the last.</summary>
    public static (long Count, long Last) Extent(sqlite3 database)
    {
        using var extent = new Statement(database, "SELECT count(*), coalesce(max(rowid), 0) FROM main.sqlite_schema", "catalogue");
        extent.Step();
        return (extent.Integer(0), extent.Integer(1));
    }

    /// <summary>The tables of the entries after a number, with their statements; and how many entries those are.</summary>
    public static (IReadOnlyDictionary<string, string> Statements, int Entries) StatementsAfter(sqlite3 database, long last)
    {
        var made = new List<(string Table, bool IsTable, string Statement)>();
        var entries = 0;
        using (
            var after = new Statement(
                database,
                "SELECT tbl_name, type, coalesce(sql, '') FROM main.sqlite_schema WHERE rowid > ? ORDER BY tbl_name, type, name",
                "catalogue"
            )
        )
        {
            for (after.Bind(1, last); after.Step(); entries++)
            {
                if (after.Text(1) is "table" or "index" && !IsOwn(after.Text(0)))
                {
                    made.Add((after.Text(0), after.Text(1) == "table", after.Text(2)));
                }
            }
        }

        // All that belongs to a table comes after it; an index alone belongs to a table that was there, with others before it.
        var statements = made.GroupBy(entry => entry.Table)
            .ToDictionary(
                table => table.Key,
                table =>
                    table.Any(entry => entry.IsTable)
                        ? string.Join(';', table.Select(entry => entry.Statement))
                        : StatementsOf(database, table.Key)
            );
        return (statements, entries);
    }

    private static string StatementsOf(sqlite3 database, string table)
    {
        var found = new List<string>();
        using var statements = new Statement(
            database,
            "SELECT coalesce(sql, '') FROM main.sqlite_schema WHERE tbl_name = ? AND type IN ('table', 'index') ORDER BY type, name",
            "catalogue"
        );
        for (statements.Bind(1, table); statements.Step();)
        {
            found.Add(statements.Text(0));
        }

        return string.Join(';', found);
    }

    public static TableSchema ReadTable(sqlite3 database, string schema, string table)
    {
        var columns = new List<Column>();
        using (
            var info = new Statement(
                database,
                "SELECT name, type, \"notnull\", pk, dflt_value, hidden FROM pragma_table_xinfo(?) ORDER BY cid",
                "catalogue"
            )
        )
        {
            info.Bind(1, table);
            while (info.Step())
            {
                columns.Add(
                    new Column(
                        info.Text(0),
                        info.Text(1),
                        info.Integer(2) == 0,
                        (int)info.Integer(3),
                        info.IsNull(4) ? null : info.Text(4),
                        info.Integer(5) != 0
                    )
                );
            }
        }

        return new TableSchema(new TableName(schema, table), columns, UniqueKeys(database, table), ForeignKeys(database, schema, table));
    }

    private static List<UniqueKey> UniqueKeys(sqlite3 database, string table)
    {
        var indexes = new List<string>();
        using (
            var list = new Statement(
                database,
                "SELECT name FROM pragma_index_list(?) WHERE \"unique\" = 1 AND origin <> 'pk' AND partial = 0 ORDER BY name",
                "catalogue"
            )
        )
        {
            list.Bind(1, table);
            while (list.Step())
            {
                indexes.Add(list.Text(0));
            }
        }

        var keys = new List<UniqueKey>();
        foreach (var index in indexes)
        {
            using var info = new Statement(database, "SELECT name FROM pragma_index_info(?) ORDER BY seqno", "catalogue");
            info.Bind(1, index);
            var columns = new List<string>();
            var plain = true;
            while (info.Step())
            {
                plain &= !info.IsNull(0);
                columns.Add(info.Text(0));
            }

            if (plain)
            {
                keys.Add(new UniqueKey(columns));
            }
        }

        return keys;
    }

    private static List<ForeignKey> ForeignKeys(sqlite3 database, string schema, string table)
    {
        var rows = new List<(long Id, string Parent, string From, string? To)>();
        using (
            var list = new Statement(
                database,
                "SELECT id, \"table\", \"from\", \"to\" FROM pragma_foreign_key_list(?) ORDER BY id, seq",
                "catalogue"
            )
        )
        {
            list.Bind(1, table);
            while (list.Step())
            {
                rows.Add((list.Integer(0), list.Text(1), list.Text(2), list.IsNull(3) ? null : list.Text(3)));
            }
        }

        return
        [
            .. rows.GroupBy(row => row.Id)
                .Select(key => new ForeignKey(
                    [.. key.Select(row => row.From)],
                    new TableName(schema, key.First().Parent),
                    key.All(row => row.To is not null) ? [.. key.Select(row => row.To!)] : PrimaryKey(database, key.First().Parent)
                )),
        ];
    }

    private static List<string> PrimaryKey(sqlite3 database, string table)
    {
        using var info = new Statement(database, "SELECT name FROM pragma_table_info(?) WHERE pk > 0 ORDER BY pk", "catalogue");
        info.Bind(1, table);
        var columns = new List<string>();
        while (info.Step())
        {
            columns.Add(info.Text(0));
        }

        return columns;
    }
}
