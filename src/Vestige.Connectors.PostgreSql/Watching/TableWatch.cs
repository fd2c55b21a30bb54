using System.Collections.Immutable;
using System.Text.Json;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>
/// Notices what is done to tables and is not in the log. The log names tables and columns only (PostgreSQL manual, Logical
/// Replication Message Formats), so that two columns that swap their names, a table that takes another's name, or rows that a
/// conversion writes again look like nothing. The catalogue is looked at every few seconds, and before the rows that follow a
/// description of a table in the log are given out.
/// <list type="number">
/// <item>A change is told at a place of the log at or before the first row that was written after it, or, where no description of the
/// table comes any more, within two looks.</item>
/// <item>A change is told once more at a position after the look that found it. The position at which it was told first may lie before a
/// load that lies before the change; whoever loaded there passes the first over.</item>
/// <item>A look covers a transaction only if it began after that transaction's position, and after the transaction showed to others, which
/// is a moment later: a transaction that changed rows of a table held a lock that the change of the table had released, so the change
/// shows in whatever looks then. One that does not show for two seconds, as for want of a standby, is not waited for any longer.</item>
/// <item>What is known is noted only together with or after what was told of it, and so is what is to be told once more: told twice is
/// harmless, never told is not; and a process that begins knows what the one before it has told.</item>
/// <item>A source may record each change itself (<see cref="ChangeRecorder"/>). If its records lead from what is known to what a look
/// finds, the look changes nothing: the reader reports each record once, at its place in the log. If they do not, the reader reports what
/// the look found, and ignores the records up to it.</item>
/// <item>A table that dropped out of the publication is put back only when its loss is durable here.</item>
/// <item>A table whose changes cannot be logged is taken out of the publication at once, for its own updates fail at the source.</item>
/// </list>
/// The reader calls it from one thread; looks run beside it.
/// </summary>
internal sealed class TableWatch
{
    private const string NotePrefix = "table ";
    private const string CatalogueNote = "catalogue";

    private readonly LogNames names;
    private readonly CatalogueLooks looks;
    private readonly IReadOnlyList<TableName> tables;
    private readonly HashSet<TableName> untold = [];
    private readonly List<TableChange> pending = [];

    private readonly ToldAgain again;
    private readonly LostTables lost;
    private readonly Dictionary<TableName, long> metAt = [];

    /// <summary>Tables of which a record did not follow on what is known: the next look tells what it finds.</summary>
    private readonly HashSet<TableName> astray = [];
    private readonly FoundVersions versions = new();
    private readonly Lock gate = new();
    private KnownCatalogue known;
    private CatalogueGlance covering;
    private bool isCatalogueUntold;
    private long coveringBegan;
    private long meetings;

    private TableWatch(
        PostgreSqlDatabase database,
        LogNames names,
        CatalogueLooks looks,
        IReadOnlyList<TableName> tables,
        KnownCatalogue known,
        ToldAgain again,
        CatalogueGlance first
    )
    {
        (this.names, this.looks, this.tables) = (names, looks, tables);
        lost = new LostTables(database, names);
        (this.known, this.again) = (known, again);
        covering = first;
        versions.ProvenAt = first.Begin;
    }

    /// <summary>
    /// Looks for the first time. What was not noted is taken as it is, unless its columns are others than those last spooled.
    /// </summary>
    public static async Task<TableWatch> BeginAsync(
        PostgreSqlDatabase database,
        LogNames names,
        LogRequest request,
        TimeProvider clock,
        CancellationToken cancellation
    )
    {
        List<TableName> watched = [.. request.Tables.Order()];
        var noted = Noted(watched, request.Notes);
        var looking = new CatalogueLooks(database, names, clock);
        var first = await looking.LookAsync(noted, watched, cancellation);
        var watch = new TableWatch(database, names, looking, watched, noted, ToldAgain.Of(watched, request.Notes), first);
        var told = request
            .Known.Values.GroupBy(form => form.Name)
            .ToDictionary(same => same.Key, same => same.Max(form => form.Generation));
        foreach (var table in watched)
        {
            if (noted.Tables.TryGetValue(table, out var state))
            {
                // What was told after it was noted is not told by the log again.
                if (told.GetValueOrDefault(table) > state?.Generation)
                {
                    watch.astray.Add(table);
                }

                watch.JudgeUnlessRecorded(table, first, first.End);
            }
            else
            {
                watch.Meet(table, first, request);
            }
        }

        watch.TakeTypes(first);
        watch.versions.AddPresent(watched, watch.known, first);
        return watch;
    }

    /// <summary>What has happened to tables and has yet to be told.</summary>
    public IReadOnlyList<TableChange> Pending => pending;

    /// <summary>What is known of a table; null when it is not there.</summary>
    public TableState? Find(TableName table) => known.Find(table);

    /// <summary>
    /// The log describes a table before rows of it, in a transaction at a place: what was done to it, or to the table of that number,
    /// is found before the rows are given out.
    /// </summary>
    /// <param name="number">The table's number.</param>
    /// <param name="name">Its name as the log tells it.</param>
    /// <param name="position">The position of the transaction.</param>
    /// <param name="transaction">The transaction's number.</param>
    /// <param name="cancellation">Gives up.</param>
    public async ValueTask MeetAsync(uint number, TableName name, LogPosition position, uint transaction, CancellationToken cancellation)
    {
        List<TableName> met = [.. known.Tables.Where(pair => pair.Key == name || pair.Value?.Number == number).Select(pair => pair.Key)];
        if (met.Count == 0)
        {
            return;
        }

        var covered =
            covering.Begin > position
            && covering.Running.HasEnded(transaction)
            && met.TrueForAll(table => metAt.GetValueOrDefault(table) <= coveringBegan);
        var now = covered ? covering : await looks.LookBehindAsync(transaction, known, met, cancellation);
        meetings++;
        foreach (var table in met)
        {
            JudgeUnlessRecorded(table, now, position);
            metAt[table] = meetings;
            pending.AddRange(again.Of(table).Except(pending));
        }
    }

    /// <summary>
    /// The log tells a table after a statement, between the rows before and after it. What does not follow on what is known is left to the
    /// next look.
    /// </summary>
    public void Take(RecordedChange change, LogPosition position)
    {
        meetings++;
        var met = known.Tables.Where(pair => pair.Value is { } state && state.Number == change.State.Number).ToList();
        foreach (var (table, state) in met.Where(pair => !(pair.Value!.Record >= change.Number)))
        {
            if (!RecordedChanges.IsOneStatement(state!, change.State))
            {
                astray.Add(table);
                continue;
            }

            metAt[table] = meetings;
            var now = change.State with { Whole = state!.Whole, Inserts = state.Inserts, Record = change.Number };
            Judge(table, CatalogueGlance.Of(change.Name, now), position, change.Statement);
        }
    }

    /// <summary>
    /// Judges what the last look found, once the log has been read up to where it ended. Throws when it failed, and when nothing is
    /// published any more.
    /// </summary>
    public async ValueTask<DateTimeOffset?> JudgeAsync(LogPosition passed)
    {
        pending.AddRange(again.UpTo(passed).Except(pending));
        BeginLook();
        if (looks.Ended is not { } last)
        {
            return null;
        }

        var seen = await last.Look;
        (covering, coveringBegan) = (seen, last.Mark);
        if (passed < seen.End)
        {
            return null;
        }

        looks.Take();
        foreach (var table in tables.Where(table => metAt.GetValueOrDefault(table) <= last.Mark))
        {
            Judge(table, seen, passed);
        }

        TakeTypes(seen);
        versions.ProvenAt = seen.Begin;
        return seen.At;
    }

    /// <summary>
    /// Begins to look when it is time for it. Safe on any thread, so that the source does not wait for a reader that is held up here.
    /// </summary>
    public void BeginLook()
    {
        if (tables.Count == 0)
        {
            return;
        }

        lock (gate)
        {
            looks.BeginWhenDue(known, tables, meetings);
        }
    }

    /// <summary>What is pending is told at this position.</summary>
    public void ReportedUpTo(LogPosition position)
    {
        pending.Clear();
        lost.ToldAt(again.ReportedUpTo(position), position);
    }

    /// <summary>Everything up to a place is durable here: the tables whose loss was told by then are published again.</summary>
    public void Keep(LogPosition durable) => lost.Publish(durable, table => known.Find(table) is not null);

    /// <summary>Whether the loss of a table is not written down yet. Safe on any thread.</summary>
    public bool IsLosing(TableName table) => lost.Contains(table);

    /// <summary>Notes a version that was found elsewhere, such as by looking at the parts of a table.</summary>
    public void Add(ToldVersion version, LogPosition position) => versions.Add(version, position);

    /// <summary>The versions of tables found since the last call.</summary>
    public IReadOnlyList<ToldVersion> TakeVersions() => versions.Take();

    /// <summary>What is to be noted with this read; nothing of what has yet to be told for the first time.</summary>
    public IEnumerable<KeyValuePair<string, string>> TakeNotes()
    {
        var waiting = pending.Select(change => change.Table).ToHashSet();
        foreach (var table in untold.Where(table => !waiting.Contains(table)).ToList())
        {
            untold.Remove(table);
            yield return KeyValuePair.Create(NotePrefix + Quote.Name(table), JsonSerializer.Serialize(known.Find(table)));
        }

        foreach (var note in again.TakeNotes(waiting))
        {
            yield return note;
        }

        if (isCatalogueUntold && waiting.Count == 0)
        {
            isCatalogueUntold = false;
            yield return KeyValuePair.Create(
                CatalogueNote,
                JsonSerializer.Serialize(new NotedTypes(known.Types, known.TypesPrint, known.Horizon))
            );
        }
    }

    private static KnownCatalogue Noted(IEnumerable<TableName> tables, IReadOnlyDictionary<string, string> notes)
    {
        var types = notes.TryGetValue(CatalogueNote, out var text)
            ? JsonSerializer.Deserialize<NotedTypes>(text)!
            : new NotedTypes(KnownCatalogue.Nothing.Types, "", 0);
        var noted = tables
            .Select(table => (Table: table, Note: notes.GetValueOrDefault(NotePrefix + Quote.Name(table))))
            .Where(pair => pair.Note is not null)
            .ToImmutableDictionary(pair => pair.Table, pair => JsonSerializer.Deserialize<TableState?>(pair.Note!));
        return new KnownCatalogue(noted, types.Types, types.TypesPrint, types.Horizon);
    }

    /// <summary>A look is ahead of the log: what it finds of a table is passed over where the log has yet to come to each change.</summary>
    private void JudgeUnlessRecorded(TableName table, CatalogueGlance now, LogPosition position)
    {
        var isRecorded =
            !astray.Remove(table)
            && known.Find(table) is { } old
            && now.Tables.GetValueOrDefault(table) is { } there
            && there.Number == old.Number
            && !now.UsersOf.Values.Any(users => users.Contains(there.Number))
            && RecordedChanges.Lead(old, now.Recorded[old.Number], there);
        if (!isRecorded)
        {
            Judge(table, now, position);
        }
    }

    private void Judge(TableName table, CatalogueGlance now, LogPosition position, string? statement = null)
    {
        var there = now.Tables.GetValueOrDefault(table);
        var change = TableDifferences.Of(table, known, now, names);
        var old = known.Find(table);
        var found = old is null ? null : TableVersions.Between(table, old, there, change?.Notice.What);
        if (found is { Certainty: VersionCertainty.Derived } && now.IsOfTheLog)
        {
            found = found with { Certainty = VersionCertainty.Exact, Statement = statement };
        }

        if (found is not null && there is not null)
        {
            change = WithSteps(change, table, (old!, there), found);
        }

        if (there is not null && old is not null && there.Number == old.Number)
        {
            there = there with { Record = now.LastRecordOf(there) ?? old.Record };
            there = change is null || change.Notice.KeepsRows ? there.Like(old)
                : change.Notice.Changes.Count > 0 ? there.After(old, now.End)
                : there with { Generation = old.Generation + 1 };
        }

        if (change is not null)
        {
            Tell(change.Schema is null ? change : change with { Schema = there!.FormOf(table) }, now);
        }

        if (found is { } version)
        {
            versions.Add(version, position);
        }

        Take(table, there);
        Lose(table, there);
    }

    /// <summary>
    /// What is told with its steps. What is not published any more has no schema here, and is held whatever was done. A change that rows do
    /// not show, as of what a column takes, is told only where its steps are known.
    /// </summary>
    private static TableChange? WithSteps(TableChange? change, TableName table, (TableState Old, TableState Now) states, ToldVersion found)
    {
        if (change is { Schema: null })
        {
            return change;
        }

        var notice = TableVersions.WithSteps(change?.Notice ?? new SchemaNotice(found.What), states.Old, states.Now, found);
        return change is not null ? change with { Notice = notice }
            : notice.Changes.Count > 0 ? new TableChange(table, states.Now.FormOf(table), notice)
            : null;
    }

    /// <summary>A table of which nothing is noted is as it is; only the columns of what was spooled of it can be compared.</summary>
    private void Meet(TableName table, CatalogueGlance first, LogRequest request)
    {
        var there = first.Tables.GetValueOrDefault(table);
        var spooled = request
            .Known.Where(pair => pair.Value.Name == table && pair.Value.Columns.Count > 0)
            .OrderBy(pair => pair.Key)
            .Select(pair => pair.Value)
            .LastOrDefault();
        var form = there?.FormOf(table);
        if (request.Before.Contains(table) && there is null or { IsPublished: false })
        {
            Tell(
                new TableChange(
                    table,
                    null,
                    new SchemaNotice(
                        there is null
                            ? "it was dropped or renamed"
                            : "it was taken out of the publication, and changes made since then are lost"
                    )
                ),
                first
            );
        }
        else if (spooled is not null && form is not null && !Described(spooled).SequenceEqual(Described(form)))
        {
            Tell(new TableChange(table, form, new SchemaNotice("its columns or its key changed")), first);
        }

        Take(table, there is null ? null : there with { Record = first.LastRecordOf(there) });
        Lose(table, there);
    }

    private void Lose(TableName table, TableState? there)
    {
        if (there is { IsPublished: false })
        {
            lost.Add(table, again.Of(table).Count > 0);
        }
    }

    private static IEnumerable<(string Name, string Type, bool IsKey)> Described(TableSchema schema) =>
        schema.Columns.Select(column => (column.Name, column.Type, column.KeyOrdinal > 0));

    /// <summary>
    /// What is told with its steps is not told again after something else was told of the table: whoever loaded before both is told of that
    /// again, and sees by what was before it that it is not what was loaded. What rows do not show is no such thing.
    /// </summary>
    private void Tell(TableChange change, CatalogueGlance found)
    {
        if (!change.Notice.KeepsRows)
        {
            again.ForgetSteps(change.Table);
        }

        pending.Add(change);
        if (!found.IsOfTheLog)
        {
            again.Add(change, found.End);
        }
    }

    private void Take(TableName table, TableState? there)
    {
        var isNew = !known.Tables.TryGetValue(table, out var old);
        if (isNew || old?.Glance != there?.Glance)
        {
            lock (gate)
            {
                known = known with { Tables = known.Tables.SetItem(table, there) };
            }

            untold.Add(table);
        }
    }

    private void TakeTypes(CatalogueGlance seen)
    {
        lock (gate)
        {
            isCatalogueUntold |= seen.Types is not null;
            known = known with { Types = seen.Types ?? known.Types, TypesPrint = seen.TypesPrint, Horizon = seen.Horizon };
        }
    }

    private sealed record NotedTypes(IReadOnlyDictionary<uint, TypeState> Types, string TypesPrint, long Horizon);
}
