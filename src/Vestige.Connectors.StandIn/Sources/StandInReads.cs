using System.Buffers;
using System.Runtime.CompilerServices;
using Microsoft.Data.Sqlite;
using SQLitePCL;
using Vestige.Connectors.StandIn.Catalogue;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Sources;

/// <summary>What sources and targets read in the same way, on a connection of the caller's.</summary>
internal static class StandInReads
{
    private const int BlockBytes = 64 << 10;

    /// <summary>The tables as of one moment: one that is dropped meanwhile is there or not, and never half.</summary>
    public static IReadOnlyList<TableDescription> Tables(sqlite3 database, string schema)
    {
        if (raw.sqlite3_get_autocommit(database) == 0)
        {
            return Described(database, schema);
        }

        Run(database, "BEGIN", schema);
        try
        {
            // The moment is that of the first read of the file; the names of tables alone can come from memory.
            Run(database, "SELECT 1 FROM sqlite_schema LIMIT 1", schema);
            return Described(database, schema);
        }
        finally
        {
            Run(database, "ROLLBACK", schema);
        }
    }

    /// <summary>A connection with a read transaction that has begun: all its reads are as of now.</summary>
    public static SqliteConnection OpenMoment(StandInDatabase database)
    {
        var connection = database.OpenReader();
        Run(connection.Handle!, "BEGIN", database.Name);

        // The moment is that of the first read of the file.
        Run(connection.Handle!, "SELECT 1 FROM sqlite_schema LIMIT 1", database.Name);
        return connection;
    }

    /// <summary>What a statement selects, in blocks of about 64 KiB; a cut line and a slow one are felt before each.</summary>
    public static async IAsyncEnumerable<RowBlock> BlocksAsync(
        StandInDatabase database,
        Statement rows,
        int columns,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        var (writer, more) = (new RowWriter(), true);
        while (more)
        {
            await database.Drills.PassConnectionAsync(cancellation);
            cancellation.ThrowIfCancellationRequested();
            var (block, count) = (new ArrayBufferWriter<byte>(BlockBytes + 4096), 0);
            while (block.WrittenCount < BlockBytes && (more = rows.Step()))
            {
                rows.WriteRow(writer, columns);
                ChangeWriter.Write(block, ChangeKind.Insert, 0, default, writer.Finish());
                count++;
            }

            if (count > 0)
            {
                yield return new RowBlock(block.WrittenMemory, count);
            }
        }
    }

    public static long Count(sqlite3 database, TableName table, SharedRows? only)
    {
        using var count = new Statement(
            database,
            $"SELECT count(*) FROM {Quote.Name(table.Name)}{(only is null ? "" : $" WHERE {Quote.Name(only.Column)} = ?")}",
            table.ToString()
        );
        if (only is not null)
        {
            count.Bind(1, only.Value);
        }

        count.Step();
        return count.Integer(0);
    }

    public static long? CountValues(sqlite3 database, TableName table, string column)
    {
        using var has = new Statement(database, "SELECT 1 FROM pragma_table_info(?) WHERE name = ?", table.ToString());
        has.Bind(1, table.Name).Bind(2, column);
        if (!has.Step())
        {
            return null;
        }

        using var count = new Statement(database, $"SELECT count({Quote.Name(column)}) FROM {Quote.Name(table.Name)}", table.ToString());
        count.Step();
        return count.Integer(0);
    }

    public static Row? Find(sqlite3 database, TableSchema table, IReadOnlyList<string> key)
    {
        if (!table.HasKey || key.Count != table.KeyOrdinals.Count)
        {
            return null;
        }

        var where = string.Join(" AND ", table.KeyOrdinals.Select(i => $"{Quote.Name(table.Columns[i].Name)} = ?"));
        var columns = Quote.Names(table.Columns.Select(column => column.Name));
        using var find = new Statement(
            database,
            $"SELECT {columns} FROM {Quote.Name(table.Name.Name)} WHERE {where} LIMIT 1",
            table.Name.ToString()
        );
        for (var i = 0; i < key.Count; i++)
        {
            find.Bind(i + 1, key[i]);
        }

        if (!find.Step())
        {
            return null;
        }

        var writer = new RowWriter();
        find.WriteRow(writer, table.Columns.Count);
        return writer.ToRow();
    }

    public static IReadOnlyList<Row> Look(sqlite3 database, TableSchema table, int rows)
    {
        using var look = new Statement(
            database,
            $"SELECT {Quote.Names(table.Columns.Select(column => column.Name))} FROM {Quote.Name(table.Name.Name)} LIMIT {rows}",
            table.Name.ToString()
        );
        var writer = new RowWriter();
        var found = new List<Row>();
        while (look.Step())
        {
            look.WriteRow(writer, table.Columns.Count);
            found.Add(writer.ToRow());
        }

        return found;
    }

    private static IReadOnlyList<TableDescription> Described(sqlite3 database, string schema) =>
        [
            .. TableCatalogue
                .Read(database, schema)
                .Select(table => new TableDescription(table, Count(database, table.Name, null), null, Reason(table))),
        ];

    private static void Run(sqlite3 database, string statement, string where)
    {
        using var running = new Statement(database, statement, where);
        running.Run();
    }

    private static string? Reason(TableSchema table) =>
        !table.HasKey ? "it has no primary key, so a changed row could not be found on the target"
        : table.Columns.Any(column => column.Generated) ? "it has generated columns, which cannot be written"
        : null;
}
