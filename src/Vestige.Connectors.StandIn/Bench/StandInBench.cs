using SQLitePCL;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Bench;

/// <summary>Runs statements that a person typed on a stand-in: all of them in one transaction, through the door.</summary>
/// <param name="open">The stand-in, which is opened when it is first used.</param>
/// <param name="clock">Our clock.</param>
public sealed class StandInBench(Func<StandInDatabase> open, TimeProvider clock) : IBench
{
    public const int RowsShown = 200;
    private const int ChangesShown = 20;
    private const int LongestStatement = 100_000;

    /// <summary>Of a value so many characters are shown, and of a result so many in all.</summary>
    private const int LongestValue = 10_000;
    private const int LongestResult = 1 << 20;

    /// <summary>No value may be longer than this while a statement runs, in bytes; the database's own limit is a gigabyte.</summary>
    private const int LongestMade = 16 << 20;
    private static readonly TimeSpan Longest = TimeSpan.FromSeconds(20);

    public Task<BenchResult> RunAsync(string statements, CancellationToken cancellation) =>
        RunAsync(open(), statements, clock, cancellation);

    public async Task<IReadOnlyList<TableName>> ReadTablesAsync(CancellationToken cancellation) =>
        [.. (await open().ReadTablesAtServerAsync(cancellation)).Select(table => table.Schema.Name)];

    /// <summary>
    /// Throws <see cref="RequestRefusedException"/> with the database's own words when a statement fails; nothing is changed then.
    /// </summary>
    public static async Task<BenchResult> RunAsync(
        StandInDatabase database,
        string statement,
        TimeProvider clock,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(database);
        if (string.IsNullOrWhiteSpace(statement))
        {
            throw new RequestRefusedException("There is no statement.") { Remedy = "Type one." };
        }

        if (statement.Length > LongestStatement)
        {
            throw new RequestRefusedException($"The statement has {statement.Length} characters.")
            {
                Remedy = $"Use at most {LongestStatement}.",
            };
        }

        var began = clock.GetTimestamp();
        var columns = new List<string>();
        var rows = new List<IReadOnlyList<string>>();
        var more = false;
        using var transaction = await database.BeginAsync(cancellation: cancellation);
        var limit = raw.sqlite3_limit(database.Handle, raw.SQLITE_LIMIT_LENGTH, LongestMade);
        raw.sqlite3_progress_handler(
            database.Handle,
            10_000,
            _ => clock.GetElapsedTime(began) > Longest || cancellation.IsCancellationRequested ? 1 : 0,
            null
        );
        try
        {
            for (var rest = statement; !string.IsNullOrWhiteSpace(rest);)
            {
                (rest, more) = RunOne(database, rest, columns, rows, more);
            }
        }
        finally
        {
            raw.sqlite3_progress_handler(database.Handle, 0, null, null);
            raw.sqlite3_limit(database.Handle, raw.SQLITE_LIMIT_LENGTH, limit);
        }

        var changed = database.Buffer.Count;
        var changes = FirstChanges(database);
        // Without a change of rows too: a trigger or an index may have been made.
        Commit(transaction);
        return new BenchResult(columns, rows, more, changed, changes, changed > 0 ? database.Head : null, clock.GetElapsedTime(began));
    }

    private static (string Tail, bool More) RunOne(
        StandInDatabase database,
        string sql,
        List<string> columns,
        List<IReadOnlyList<string>> rows,
        bool more
    )
    {
        database.Guard(on: true);
        database.Silence(SchemaStatement.TableOf(sql) is { } table ? [table] : []);
        var code = raw.sqlite3_prepare_v2(database.Handle, sql, out var handle, out var tail);
        try
        {
            if (code != raw.SQLITE_OK)
            {
                throw Refused(database, code);
            }

            if (handle is null || handle.IsInvalid)
            {
                return (tail, more);
            }

            more = Step(database, handle, columns, rows, more);
        }
        finally
        {
            database.Guard(on: false);
            handle?.Dispose();
        }

        database.AfterStatement(onlyMakes: true);
        database.Silence([]);
        return (tail, more);
    }

    private static bool Step(
        StandInDatabase database,
        sqlite3_stmt handle,
        List<string> columns,
        List<IReadOnlyList<string>> rows,
        bool more
    )
    {
        var count = raw.sqlite3_column_count(handle);
        if (count > 0)
        {
            columns.Clear();
            rows.Clear();
            more = false;
            columns.AddRange(Enumerable.Range(0, count).Select(i => raw.sqlite3_column_name(handle, i).utf8_to_string()));
        }

        var shown = rows.Sum(row => row.Sum(value => (long)value.Length));
        int code;
        while ((code = raw.sqlite3_step(handle)) == raw.SQLITE_ROW)
        {
            if (rows.Count < RowsShown && shown < LongestResult)
            {
                rows.Add([.. Enumerable.Range(0, count).Select(i => Shown(handle, i))]);
                shown += rows[^1].Sum(value => (long)value.Length);
            }
            else if (raw.sqlite3_stmt_readonly(handle) != 0)
            {
                return true;
            }
            else
            {
                more = true;
            }
        }

        return code == raw.SQLITE_DONE ? more : throw Refused(database, code);
    }

    private static string Shown(sqlite3_stmt handle, int column) =>
        raw.sqlite3_column_type(handle, column) switch
        {
            raw.SQLITE_NULL => "NULL",
            raw.SQLITE_BLOB => Cut(
                "0x"
                    + Convert.ToHexString(
                        raw.sqlite3_column_blob(handle, column)[..Math.Min(raw.sqlite3_column_bytes(handle, column), LongestValue)]
                    ),
                2L * raw.sqlite3_column_bytes(handle, column)
            ),
            _ => Cut(raw.sqlite3_column_text(handle, column).utf8_to_string(), raw.sqlite3_column_bytes(handle, column)),
        };

    private static string Cut(string text, long length) =>
        text.Length > LongestValue ? $"{text[..LongestValue]}... ({length} characters)" : text;

    private static List<BenchChange> FirstChanges(StandInDatabase database)
    {
        var changes = new List<BenchChange>();
        foreach (var (_, bytes) in database.Buffer.Parts())
        {
            var reader = new ChangeReader(bytes);
            while (changes.Count < ChangesShown && reader.TryRead(out var change))
            {
                if (database.RelationOf(change.Relation) is { } known)
                {
                    var row = change.After.IsNone ? change.Before : change.After;
                    var hasKey = change.Kind != ChangeKind.Schema && known.HasKey;
                    changes.Add(new BenchChange(known.Name, change.Kind, hasKey ? RowKey.Display(row, known.KeyOrdinals) : ""));
                }
            }

            break;
        }

        return changes;
    }

    private static void Commit(StandInTransaction transaction)
    {
        try
        {
            transaction.Commit();
        }
        catch (PortException exception)
        {
            throw new RequestRefusedException(exception.Message, exception) { Remedy = "Nothing was changed. Correct the statement." };
        }
    }

    private static RequestRefusedException Refused(StandInDatabase database, int code)
    {
        var words = raw.sqlite3_errmsg(database.Handle).utf8_to_string();
        return (code & 0xFF) switch
        {
            raw.SQLITE_AUTH => new RequestRefusedException($"Not on the bench: {words}.")
            {
                Remedy =
                    "The bench runs all statements in one transaction of its own. Leave out transaction control, ATTACH, settings and "
                    + "tables that begin with vestige_.",
            },
            raw.SQLITE_INTERRUPT => new RequestRefusedException("The statement ran for 20 s and was ended.") { Remedy = "Narrow it down." },
            _ => new RequestRefusedException($"{database.Name} answered: {words} (SQLite {code}).")
            {
                Remedy = "Nothing was changed. Correct the statement.",
            },
        };
    }
}
