using System.Text.Json;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>
/// What was told too early for some, each with where in the log it has been told to all. It is noted, so that a process that begins tells
/// it again as the one before it would have. Used by one thread.
/// </summary>
internal sealed class ToldAgain
{
    private const string NotePrefix = "again ";
    private readonly List<Entry> entries = [];
    private readonly HashSet<TableName> untold = [];

    private ToldAgain() { }

    /// <summary>As it was noted of some tables.</summary>
    public static ToldAgain Of(IEnumerable<TableName> tables, IReadOnlyDictionary<string, string> notes)
    {
        var again = new ToldAgain();
        foreach (var table in tables)
        {
            if (notes.TryGetValue(NotePrefix + Quote.Name(table), out var note))
            {
                again.entries.AddRange(JsonSerializer.Deserialize<List<Entry>>(note)!);
            }
        }

        return again;
    }

    /// <summary>What is to be told again of a table.</summary>
    public IReadOnlyList<TableChange> Of(TableName table) =>
        [.. entries.Where(entry => entry.Change.Table == table).Select(entry => entry.Change)];

    /// <summary>What is to be told now that the log was read up to a place.</summary>
    public IReadOnlyList<TableChange> UpTo(LogPosition passed) =>
        [.. entries.Where(entry => entry.End <= passed).Select(entry => entry.Change)];

    public void Add(TableChange change, LogPosition end)
    {
        entries.Add(new Entry(change, end));
        untold.Add(change.Table);
    }

    /// <summary>What was told of a table with its steps is not told again.</summary>
    public void ForgetSteps(TableName table)
    {
        entries.RemoveAll(entry => entry.Change.Table == table && entry.Change.Notice.Changes.Count > 0);
        untold.Add(table);
    }

    /// <summary>What ends up to a place has been told to all. Returns its tables.</summary>
    public IReadOnlySet<TableName> ReportedUpTo(LogPosition position)
    {
        var done = entries.Where(entry => entry.End <= position).Select(entry => entry.Change.Table).ToHashSet();
        entries.RemoveAll(entry => entry.End <= position);
        untold.UnionWith(done);
        return done;
    }

    /// <summary>What is to be noted; nothing of tables of which something has yet to be told for the first time.</summary>
    public IEnumerable<KeyValuePair<string, string>> TakeNotes(IReadOnlySet<TableName> waiting)
    {
        foreach (var table in untold.Where(table => !waiting.Contains(table)).ToList())
        {
            untold.Remove(table);
            var mine = entries.Where(entry => entry.Change.Table == table).ToList();
            yield return KeyValuePair.Create(NotePrefix + Quote.Name(table), JsonSerializer.Serialize(mine));
        }
    }

    private sealed record Entry(TableChange Change, LogPosition End);
}
