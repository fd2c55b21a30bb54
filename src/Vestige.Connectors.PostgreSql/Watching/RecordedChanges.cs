using System.Globalization;
using Npgsql;
using Vestige.Core.SchemaVersions;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>
/// What the event trigger at the source has recorded, against what a look at the catalogue finds. A record tells a table after one
/// statement, at the place of that statement in the log; the catalogue is ahead of the log. Where records lead from what is known to what
/// the look finds, the log has yet to tell each of them at its place, and the look has nothing to say.
/// </summary>
internal static class RecordedChanges
{
    /// <summary>A table with more of them since it was known is taken as the look finds it.</summary>
    private const int Most = 100;

    private const string Since = $"""
        SELECT last.told::text FROM unnest($1::text[]::oid[], $2::text[]::int8[]) wanted(relation, after) CROSS JOIN LATERAL (
            SELECT r.number, r.told FROM {ChangeRecorder.Table} r WHERE r.relation = wanted.relation AND r.number > wanted.after
            ORDER BY r.number DESC LIMIT $3) last ORDER BY last.number
        """;

    /// <summary>
    /// Those of tables that are newer than what is known of them, of each the last ones; none where nothing is recorded, or may not be
    /// read.
    /// </summary>
    public static async Task<IReadOnlyList<RecordedChange>> ReadAsync(
        NpgsqlConnection connection,
        IReadOnlyCollection<uint> numbers,
        IEnumerable<TableState> known,
        CancellationToken cancellation
    )
    {
        if (!await ChangeRecorder.IsReadableAsync(connection, cancellation))
        {
            return [];
        }

        var last = known.ToLookup(state => state.Number, state => state.Record ?? 0);
        await using var command = new NpgsqlCommand(Since, connection);
        command.Parameters.Add(PostgreSqlDatabase.Texts(numbers.Select(number => number.ToString(CultureInfo.InvariantCulture))));
        command.Parameters.Add(
            PostgreSqlDatabase.Texts(
                numbers.Select(number => last[number].DefaultIfEmpty(0).Min().ToString(CultureInfo.InvariantCulture))
            )
        );
        command.Parameters.Add(new NpgsqlParameter { Value = Most });
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var read = new List<RecordedChange>();
        while (await reader.ReadAsync(cancellation))
        {
            if (RecordedChange.Parse(reader.GetString(0)) is { } change)
            {
                read.Add(change);
            }
        }

        return read;
    }

    /// <summary>Whether each of the records is one statement after the one before, and the last is what a look finds.</summary>
    public static bool Lead(TableState known, IEnumerable<RecordedChange> records, TableState found)
    {
        List<TableState> states = [.. records.Where(record => record.Number > (known.Record ?? 0)).Select(record => record.State)];
        if (states.Count is 0 or >= Most)
        {
            return false;
        }

        var state = known;
        foreach (var next in states)
        {
            if (!IsOneStatement(state, next))
            {
                return false;
            }

            state = next;
        }

        return (known.Whole, known.Inserts) == (found.Whole, found.Inserts) && IsSame(state, found);
    }

    /// <summary>
    /// Whether one statement leads from one state to the other, as far as that shows. What was done in between by another transaction,
    /// while nothing was recorded, has left its number on the catalogue rows of columns, or in how many columns there ever were.
    /// </summary>
    public static bool IsOneStatement(TableState before, TableState after)
    {
        var were = before.Columns.ToDictionary(column => column.Number);
        var written = after.Columns.Where(column => were.GetValueOrDefault(column.Number)?.Writer != column.Writer).ToList();
        return written.Select(column => column.Writer).Distinct().Count() <= 1
            && after.Attributes - before.Attributes == after.Columns.Count(column => !were.ContainsKey(column.Number));
    }

    /// <summary>By all that concerns rows; a file changes with VACUUM FULL as well.</summary>
    private static bool IsSame(TableState recorded, TableState found) =>
        recorded.Number == found.Number
        && recorded.Shape == found.Shape
        && recorded.Attributes == found.Attributes
        && recorded.Identified == found.Identified
        && (recorded.File == found.File || !TableDifferences.MayBeRewritten(recorded, found))
        && SchemaComparison.Between(recorded.Described(Any), found.Described(Any)).Count == 0;

    private static readonly Core.Schemas.TableName Any = new("", "");
}
