using System.Security.Cryptography;
using System.Text;
using Vestige.Connectors.StandIn.Catalogue;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Targets;

/// <summary>Replaces the rows of a table by those of a table beside it, which is one of the stand-in's own and in no log.</summary>
internal sealed class RowsBeside(StandInTransaction transaction)
{
    public static TableSchema Of(string crossing, TableSchema table) =>
        new(
            table.Name with
            {
                Name = PrefixOf(crossing) + Short(table.Name.Name),
            },
            [.. table.Columns.Select(column => column with { KeyOrdinal = 0, Nullable = true })],
            [],
            []
        );

    /// <summary>Drops what interrupted loads of a crossing have left.</summary>
    public void Drop(string crossing)
    {
        foreach (
            var left in transaction.Query(
                "SELECT name FROM sqlite_schema WHERE type = 'table' AND substr(name, 1, ?) = ?",
                PrefixOf(crossing).Length,
                PrefixOf(crossing)
            )
        )
        {
            transaction.Database.Run($"DROP TABLE {Quote.Name(left.DisplayAt(0)!)}");
        }
    }

    public void Make(TableSchema beside)
    {
        transaction.Database.Run($"DROP TABLE IF EXISTS {Quote.Name(beside.Name.Name)}");
        transaction.Database.Run(TableStatements.Create(beside, new HashSet<string>()));
    }

    public ReplacedRows Replace(TableSchema table, TableSchema beside, long rows)
    {
        var (name, from) = (Quote.Name(table.Name.Name), Quote.Name(beside.Name.Name));
        var there = transaction.Query($"SELECT count(*) FROM {from}", [])[0].IntegerAt(0);
        if (there != rows)
        {
            throw new PortException(
                $"Of {Figures.Of(rows, "row")} of {table.Name} that were loaded, the target has {Figures.Count(there)}. "
                    + "Nothing was replaced."
            )
            {
                Transient = true,
                Remedy = "Vestige loads the table again automatically.",
            };
        }

        var replaced = table.HasKey ? ReplaceByKey(table, name, from) : ReplaceAll(table, name, from);
        transaction.Database.Run($"DROP TABLE {from}");
        return replaced;
    }

    private ReplacedRows ReplaceAll(TableSchema table, string name, string from)
    {
        var deleted = transaction.Run($"DELETE FROM {name}", []);
        return new ReplacedRows(Insert(table, $"INSERT INTO {name} SELECT {Columns(table)} FROM {from}"), 0, deleted);
    }

    /// <summary>Rows that differ are deleted and inserted again, since a unique value may go from one to another.</summary>
    private ReplacedRows ReplaceByKey(TableSchema table, string name, string from)
    {
        var (key, all) = (Same(table, table.KeyOrdinals), Same(table, Enumerable.Range(0, table.Columns.Count)));
        transaction.Database.Run($"CREATE INDEX {Quote.Name($"{Unquoted(from)}_key")} ON {from} ({KeyOf(table)})");
        var deleted = transaction.Run($"DELETE FROM {name} AS t WHERE NOT EXISTS (SELECT 1 FROM {from} AS s WHERE {key})", []);
        var other = transaction.Run($"DELETE FROM {name} AS t WHERE NOT EXISTS (SELECT 1 FROM {from} AS s WHERE {all})", []);
        var inserted = Insert(
            table,
            $"INSERT INTO {name} ({Columns(table)}) SELECT {Columns(table)} FROM {from} AS s WHERE NOT EXISTS "
                + $"(SELECT 1 FROM {name} AS t WHERE {key})"
        );
        return new ReplacedRows(inserted - other, other, deleted);
    }

    private int Insert(TableSchema table, string statement)
    {
        try
        {
            return transaction.Run(statement, []);
        }
        catch (PortException exception) when (!exception.Transient)
        {
            throw new RowRefusedException($"{table.Name} does not take a row of the source: {exception.Message}", exception)
            {
                Table = table.Name,
                Kind = Core.Changes.ChangeKind.Insert,
                Answer = exception.Message,
                Remedy = "Remove the cause on the target, then load the table again.",
            };
        }
    }

    /// <summary>Values count as the same only when their type is as well: 1 and 1.0 are equal and not the same.</summary>
    private static string Same(TableSchema table, IEnumerable<int> columns) =>
        string.Join(
            " AND ",
            columns
                .Select(column => Quote.Name(table.Columns[column].Name))
                .Select(column => $"s.{column} IS t.{column} COLLATE BINARY AND typeof(s.{column}) = typeof(t.{column})")
        );

    private static string Columns(TableSchema table) => Quote.Names(table.Columns.Select(column => column.Name));

    private static string KeyOf(TableSchema table) =>
        string.Join(", ", table.KeyOrdinals.Select(column => $"{Quote.Name(table.Columns[column].Name)} COLLATE BINARY"));

    private static string Unquoted(string name) => name.Trim('"');

    private static string PrefixOf(string crossing) => $"{TableCatalogue.OwnPrefix}load_{Short(crossing)}_";

    private static string Short(string text) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)))[..12];
}
