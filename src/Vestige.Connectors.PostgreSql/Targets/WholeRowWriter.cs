using Npgsql;
using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// Changes rows of a table without a key: the log carries the whole row before, and exactly one row here that equals it to
/// the byte of its text form is changed; of several that do, it makes no difference which. Equality by the type's own rule
/// alone would take 1.0 for 1.00; it is asked first where an index may help.
/// </summary>
internal sealed class WholeRowWriter(PostgreSqlTargetTransaction transaction)
{
    /// <summary>Types of which two equal values have one text form.</summary>
    private static readonly HashSet<string> Exact = ["smallint", "integer", "bigint", "oid", "uuid", "date", "boolean", "bytea"];

    /// <summary>
    /// Types with an equality that an index may serve, beside which the text form is compared; without what stands in brackets.
    /// </summary>
    private static readonly HashSet<string> Comparable =
    [
        "text",
        "character",
        "character varying",
        "numeric",
        "real",
        "double precision",
        "timestamp without time zone",
        "timestamp with time zone",
    ];

    public async Task<ApplyCounts> WriteAsync(TableSchema table, RowChange change, CancellationToken cancellation)
    {
        if (
            change.Kind == ChangeKind.Update
            && Enumerable.Range(0, change.After.Count).All(i => change.After.KindAt(i) == ValueKind.Absent)
        )
        {
            // Large values that stayed are all it has: the row is as it was.
            return default;
        }

        var row = new FoldedRow(change.Kind, change.Before, change.After);
        var touched = await transaction.RunAsync([(CommandFor(table, change), table, row)], cancellation);
        if (touched[0] > 0)
        {
            return default;
        }

        if (change.Kind == ChangeKind.Update)
        {
            var whole = new FoldedRow(ChangeKind.Insert, default, RowMerge.Fill(change.After, change.Before));
            await new RowWriterOneByOne(transaction).WriteAsync(transaction.Of(table), table, whole, movesKey: false, cancellation);
        }

        return new ApplyCounts(0, Missing: 1);
    }

    internal static NpgsqlBatchCommand CommandFor(TableSchema table, RowChange change)
    {
        var (command, name) = (new NpgsqlBatchCommand(), Quote.Name(table.Name));
        if (change.Kind == ChangeKind.Delete)
        {
            command.CommandText = $"DELETE FROM {name} WHERE ctid = ({One(table, change.Before, command)})";
            return command;
        }

        var set = Enumerable.Range(0, table.Columns.Count).Where(i => change.After.KindAt(i) != ValueKind.Absent);
        var assignments = set.Select(i => $"{Quote.Name(table.Columns[i].Name)} = {Add(command, change.After, i)}").ToList();
        command.CommandText = $"UPDATE {name} SET {string.Join(", ", assignments)} WHERE ctid = ({One(table, change.Before, command)})";
        return command;
    }

    private static string One(TableSchema table, Row before, NpgsqlBatchCommand command) =>
        $"SELECT ctid FROM {Quote.Name(table.Name)} WHERE "
        + $"{string.Join(" AND ", table.Columns.Select((column, i) => Equal(column, before, i, command)))} LIMIT 1";

    private static string Equal(Column column, Row before, int ordinal, NpgsqlBatchCommand command)
    {
        var name = Quote.Name(column.Name);

        // Of a composite value IS NULL asks whether every field is; this asks for the value itself, and needs no operator.
        if (before.KindAt(ordinal) == ValueKind.Null)
        {
            return $"{name} IS NOT DISTINCT FROM NULL";
        }

        if (Exact.Contains(column.Type))
        {
            return $"{name} = {Add(command, before, ordinal)}";
        }

        // format() writes a value by its type's output function, as the log does; a cast to text does not for some types. NULL it
        // writes as the empty text, which other types have as a value.
        var sameText = $"{name} IS DISTINCT FROM NULL AND format('%s', {name}) COLLATE \"C\" = {Add(command, before, ordinal)}";
        return Comparable.Contains(Bare(column.Type)) ? $"{name} = {Add(command, before, ordinal)} AND {sameText}" : sameText;
    }

    private static string Bare(string type)
    {
        var (begin, end) = (type.IndexOf('(', StringComparison.Ordinal), type.IndexOf(')', StringComparison.Ordinal));
        return begin < 0 || end < begin ? type : type[..begin] + type[(end + 1)..];
    }

    private static string Add(NpgsqlBatchCommand command, Row row, int ordinal)
    {
        command.Parameters.Add(PostgreSqlDatabase.Text(row.KindAt(ordinal) == ValueKind.Null ? null : row.TextAt(ordinal)));
        return $"${command.Parameters.Count}";
    }
}
