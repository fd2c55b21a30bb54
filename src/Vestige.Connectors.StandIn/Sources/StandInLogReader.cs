using System.Buffers;
using System.Text.Json;
using Microsoft.Data.Sqlite;
using Vestige.Connectors.StandIn.Log;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Sources;

/// <summary>Reads the log tables of a stand-in forward, on a connection of its own.</summary>
internal sealed class StandInLogReader : ILogReader
{
    private const int ReadBytes = 1 << 20;
    private readonly StandInDatabase database;
    private readonly IReadOnlySet<TableName> tables;
    private readonly SqliteConnection connection;
    private readonly Statement next;
    private readonly Dictionary<int, TableSchema> known = [];
    private readonly HashSet<int> told = [];
    private readonly LogPosition after;
    private readonly List<ToldVersion> versions;

    /// <summary>Which change of a table at which position was the last.</summary>
    private readonly Dictionary<TableName, (LogPosition At, int Ordinal)> ordinals = [];
    private LogPosition passed;
    private (long Position, long Part) cursor;

    /// <summary>Reads what follows a position.</summary>
    /// <param name="database">The database.</param>
    /// <param name="after">The position.</param>
    /// <param name="tables">The tables to give changes of.</param>
    /// <param name="present">Those tables as they are, given with the first read.</param>
    public StandInLogReader(
        StandInDatabase database,
        LogPosition after,
        IReadOnlySet<TableName> tables,
        IReadOnlyList<ToldVersion> present
    )
    {
        versions = [.. present];
        this.database = database;
        this.tables = tables;
        this.after = after;
        passed = after;
        cursor = ((long)after.Offset, long.MaxValue);
        connection = database.OpenReader();
        next = new Statement(
            connection.Handle!,
            "SELECT position, part, committed_at, last, changes, body, route FROM vestige_log WHERE (position, part) > (?, ?) ORDER "
                + "BY position, part",
            database.Name
        );
    }

    public async ValueTask<LogRead> ReadAsync(TimeSpan wait, CancellationToken cancellation)
    {
        await database.Drills.PassConnectionAsync(cancellation);
        database.Drills.PassReader();
        var committed = database.Committed.Next;
        var read = Read();
        if (read.Fragments.Count > 0 || read.Passed > passed || wait <= TimeSpan.Zero)
        {
            passed = LogPosition.Max(passed, read.Passed);
            return read;
        }

        await Task.WhenAny(committed, Task.Delay(wait, cancellation));
        cancellation.ThrowIfCancellationRequested();

        // Stopped while it waited: what was committed since is not read.
        database.Drills.PassReader();
        read = Read();
        passed = LogPosition.Max(passed, read.Passed);
        return read;
    }

    public ValueTask DisposeAsync()
    {
        next.Dispose();
        connection.Dispose();
        return ValueTask.CompletedTask;
    }

    private LogRead Read()
    {
        var head = after.At(database.Head.Offset);
        if (cursor.Position < (long)database.Oldest.Offset)
        {
            throw new PlaceLostException(
                $"The log of {database.Name} begins at position {database.Oldest}; it no longer holds what follows position "
                    + $"{cursor.Position}."
            )
            {
                Remedy = "Load the crossings of this source again.",
            };
        }

        var fragments = new List<LogFragment>();
        var relations = new Dictionary<int, TableSchema>();
        var end = passed;
        var bytes = 0;
        var atHead = true;
        next.Bind(1, cursor.Position).Bind(2, cursor.Part);
        try
        {
            while (next.Step())
            {
                var body = next.Bytes(5);
                var position = after.At((ulong)next.Integer(0));
                cursor = (next.Integer(0), next.Integer(1));
                var isLast = next.Integer(3) == 1;
                Take(
                    fragments,
                    relations,
                    body,
                    position,
                    new DateTimeOffset(next.Integer(2), TimeSpan.Zero),
                    cursor.Part == 0,
                    isLast,
                    (int)next.Integer(4),
                    next.IsNull(6) ? null : next.Text(6)
                );
                if (isLast)
                {
                    end = position;
                }

                bytes += body.Length;
                if (bytes >= ReadBytes)
                {
                    atHead = false;
                    break;
                }
            }
        }
        finally
        {
            next.Reset();
        }

        return new LogRead(fragments, relations, atHead ? LogPosition.Max(end, head) : end, atHead) { Versions = TakeVersions() };
    }

    private void Take(
        List<LogFragment> fragments,
        Dictionary<int, TableSchema> relations,
        byte[] body,
        LogPosition position,
        DateTimeOffset committedAt,
        bool isFirst,
        bool isLast,
        int count,
        string? route
    )
    {
        var kept = Chosen(body, relations, position, ref count);
        if (count > 0 || !(isFirst && isLast))
        {
            fragments.Add(new LogFragment(position, committedAt, isFirst, isLast, count, kept, Route: route));
        }
    }

    /// <summary>The changes of chosen tables; the same bytes when all are chosen.</summary>
    private ReadOnlyMemory<byte> Chosen(byte[] body, Dictionary<int, TableSchema> relations, LogPosition position, ref int count)
    {
        var reader = new ChangeReader(body);
        var all = true;
        while (reader.TryRead(out var change))
        {
            var isChosen = IsChosen(change.Relation, relations);
            all &= isChosen;
            if (isChosen && change.Kind == ChangeKind.Schema)
            {
                versions.Add(Version(change.Relation, position, SchemaNotice.Of(change).What, relations));
            }
        }

        if (all)
        {
            return body;
        }

        var kept = new ArrayBufferWriter<byte>();
        count = 0;
        reader = new ChangeReader(body);
        while (reader.TryRead(out var change))
        {
            if (IsChosen(change.Relation, relations))
            {
                ChangeWriter.Write(kept, change);
                count++;
            }
        }

        return kept.WrittenMemory;
    }

    private IReadOnlyList<ToldVersion> TakeVersions()
    {
        ToldVersion[] taken = [.. versions];
        versions.Clear();
        return taken;
    }

    /// <summary>
    /// The log says what was done to a table just where it was done. The form before is told too: a crossing may go on with that.
    /// </summary>
    private ToldVersion Version(int relation, LogPosition position, string what, Dictionary<int, TableSchema> relations)
    {
        var form = known[relation];
        var ordinal = ordinals.GetValueOrDefault(form.Name) is var last && last.At == position ? last.Ordinal + 1 : 0;
        ordinals[form.Name] = (position, ordinal);
        var isDropped = what == Relations.Dropped;
        var before = isDropped ? relation : Earlier(relation, form.Name);
        return new ToldVersion(form.Name, position, VersionCertainty.Exact, isDropped ? null : form, what)
        {
            Ordinal = ordinal,
            Before = before is { } earlier && IsChosen(earlier, relations) ? known[earlier] : null,
        };
    }

    /// <summary>The number of the form of a table before one of a number; null where it had none.</summary>
    private int? Earlier(int relation, TableName table)
    {
        using var find = new Statement(
            connection.Handle!,
            "SELECT max(number) FROM vestige_relation WHERE number < ? AND json_extract(body, '$.Name.Name') = ?",
            database.Name
        );
        find.Bind(1, relation).Bind(2, table.Name);
        return find.Step() && !find.IsNull(0) ? (int)find.Integer(0) : null;
    }

    private bool IsChosen(int relation, Dictionary<int, TableSchema> relations)
    {
        if (!known.TryGetValue(relation, out var form))
        {
            using var find = new Statement(connection.Handle!, "SELECT body FROM vestige_relation WHERE number = ?", database.Name);
            find.Bind(1, relation);
            form = find.Step()
                ? JsonSerializer.Deserialize<TableSchema>(find.Text(0))! with
                {
                    Generation = relation,
                }
                : throw new InvalidDataException($"The log names relation {relation}, which is not known.");
            known.Add(relation, form);
        }

        if (!tables.Contains(form.Name))
        {
            return false;
        }

        if (told.Add(relation))
        {
            relations.Add(relation, form);
        }

        return true;
    }
}
