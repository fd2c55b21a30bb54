using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Tests.Doubles;
using Vestige.Engine.Tests.Simulation;
using Xunit;

namespace Vestige.Engine.Tests.Spooling;

/// <summary>What the spool holds, shows, keeps and gives up.</summary>
public sealed class SpoolTests
{
    private static readonly LogIdentity Log = new("scripted", 1);
    private static readonly SpoolOptions Small = new(FileBytes: 400, BudgetBytes: 4000, RecordBytes: 100, SpanBytes: 0);
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly MemoryFiles files = new();

    [Fact]
    public async Task Nothing_is_seen_before_it_is_durable()
    {
        await using var spool = await BeginAsync(Small);
        var reader = spool.ReadAfter(LogPosition.Zero);
        await spool.AppendAsync(ScriptedSource.Read(ScriptedSource.Fragment(1)), DateTimeOffset.UnixEpoch, cancellation);
        Assert.Empty(await reader.TryReadAsync(1000, cancellation));
        Assert.Equal(LogPosition.Zero, spool.Last);
        Assert.Equal(new LogPosition(1), await spool.SyncAsync(cancellation));
        Assert.Equal(new LogPosition(1), Assert.Single(await reader.TryReadAsync(1000, cancellation)).Position);
    }

    [Fact]
    public async Task A_large_transaction_is_seen_as_a_whole_or_not_at_all()
    {
        await using var spool = await BeginAsync(Small);
        await spool.AppendAsync(ScriptedSource.Read(ScriptedSource.Fragment(5, last: false)), DateTimeOffset.UnixEpoch, cancellation);
        await spool.SyncAsync(cancellation);
        Assert.Empty(await spool.ReadAfter(LogPosition.Zero).TryReadAsync(1000, cancellation));
        await spool.AppendAsync(ScriptedSource.Read(ScriptedSource.Fragment(5, first: false)), DateTimeOffset.UnixEpoch, cancellation);
        await spool.SyncAsync(cancellation);
        Assert.Equal([5UL, 5UL], (await ReadAllAsync(spool, 0)).Select(fragment => fragment.Position.Offset));
        Assert.Equal((1, 2), (spool.Transactions, spool.Changes));
    }

    /// <summary>
    /// Since when a table is held whole outlives the process and the file; a spool of before that was known is read all the same.
    /// </summary>
    [Fact]
    public async Task Since_when_tables_are_held_whole_is_kept_and_older_lists_are_read()
    {
        await using (var spool = await BeginAsync(Small))
        {
            await spool.CarryAsync(new HashSet<TableName> { SimRows.First.Name, SimRows.Second.Name }, cancellation);
            await spool.RetainWholeAsync(new HashSet<TableName> { SimRows.First.Name }, new LogPosition(7), cancellation);
            await spool.RetainWholeAsync(new HashSet<TableName> { SimRows.First.Name }, new LogPosition(9), cancellation);
        }

        await using (var again = await OpenAsync(Small))
        {
            Assert.Equal(new LogPosition(7), again.Retained(SimRows.First.Name)!.WholeAfter);
            Assert.Null(again.Retained(SimRows.Second.Name)!.WholeAfter);
            Assert.Null(again.Retained(SimRows.Other.Name));
        }

        var file = await files.OpenAsync(1, cancellation);
        var older = System.Text.Json.JsonSerializer.SerializeToUtf8Bytes(new[] { SimRows.First.Name });
        await file.AppendAsync(
            new SpoolRecord(100, SpoolRecordKind.Tables, default, Complete: true, 0, 0, new PlainCipher().Seal(older)),
            cancellation
        );
        await file.SyncAsync(cancellation);
        await using var old = await OpenAsync(Small);
        Assert.Equal([SimRows.First.Name], old.Tables);
        Assert.Null(old.Retained(SimRows.First.Name)!.WholeAfter);
    }

    [Fact]
    public async Task After_a_crash_it_ends_at_the_last_whole_transaction_that_was_synced()
    {
        await using (var spool = await BeginAsync(Small))
        {
            await TakeAsync(spool, 1, 2, 3);
            await spool.AppendAsync(ScriptedSource.Read(ScriptedSource.Fragment(4)), DateTimeOffset.UnixEpoch, cancellation);
            await spool.AppendAsync(ScriptedSource.Read(ScriptedSource.Fragment(5, last: false)), DateTimeOffset.UnixEpoch, cancellation);
        }

        files.Crash();
        await using var again = await OpenAsync(Small);
        Assert.Equal(new LogPosition(3), again.Last);
        Assert.Equal(Log, again.Identity);
        Assert.Equal((3, 3), (again.Transactions, again.Changes));
        await TakeAsync(again, 4, 5);
        Assert.Equal([1UL, 2UL, 3UL, 4UL, 5UL], (await ReadAllAsync(again, 0)).Select(fragment => fragment.Position.Offset));
    }

    [Fact]
    public async Task The_part_of_a_transaction_that_a_crash_left_is_cut_off()
    {
        await using (var spool = await BeginAsync(Small))
        {
            await TakeAsync(spool, 1);
            await spool.AppendAsync(ScriptedSource.Read(ScriptedSource.Fragment(2, last: false)), DateTimeOffset.UnixEpoch, cancellation);
            files.All.Values.ToList().ForEach(file => file.Held = file.Held.AddRange(file.Waiting));
        }

        await using var again = await OpenAsync(Small);
        Assert.Equal([1UL], (await ReadAllAsync(again, 0)).Select(fragment => fragment.Position.Offset));
    }

    [Fact]
    public async Task Files_are_closed_at_their_size_and_read_across()
    {
        await using var spool = await BeginAsync(Small);
        await TakeAsync(spool, [.. Enumerable.Range(1, 60).Select(place => (long)place)]);
        Assert.True(files.All.Count > 3, $"{files.All.Count} files");
        Assert.Equal(
            Enumerable.Range(31, 30).Select(place => (ulong)place),
            (await ReadAllAsync(spool, 30)).Select(fragment => fragment.Position.Offset)
        );
    }

    [Fact]
    public async Task What_the_slowest_crossing_needs_stays()
    {
        await using var spool = await BeginAsync(Small);
        spool.Retain("fast", new LogPosition(60));
        spool.Retain("slow", new LogPosition(20));
        await TakeAsync(spool, [.. Enumerable.Range(1, 60).Select(place => (long)place)]);
        await spool.TrimAsync(cancellation);
        Assert.True(spool.Begin > LogPosition.Zero && spool.Begin <= new LogPosition(20), $"begins at {spool.Begin}");
        Assert.Equal(40, (await ReadAllAsync(spool, 20)).Count);
        Assert.Throws<PlaceLostException>(() => spool.ReadAfter(LogPosition.Zero));
        spool.Release("slow");
        await spool.TrimAsync(cancellation);
        Assert.True(spool.Begin > new LogPosition(20));
    }

    /// <summary>What held tables want is kept beyond the span, and given up before anybody waits.</summary>
    [Fact]
    public async Task What_is_wanted_stays_until_the_budget_is_reached()
    {
        await using var spool = await BeginAsync(Small with { BudgetBytes = 6000 });
        spool.Retain("copy", new LogPosition(10_000), new LogPosition(3));
        long place = 0;
        await TakeAsync(spool, ++place);
        while (!spool.Full)
        {
            await spool.TrimAsync(cancellation);
            Assert.True(spool.Contains(new LogPosition(3)), $"begins at {spool.Begin}, {spool.Bytes} bytes");
            await TakeAsync(spool, ++place);
        }

        await spool.TrimAsync(cancellation);
        Assert.False(spool.Full);
        Assert.False(spool.Contains(new LogPosition(3)));
    }

    [Fact]
    public async Task While_a_crossings_place_is_unknown_nothing_is_dropped()
    {
        await using var spool = await BeginAsync(Small);
        spool.Retain("unknown", null);
        await TakeAsync(spool, [.. Enumerable.Range(1, 60).Select(place => (long)place)]);
        await spool.TrimAsync(cancellation);
        Assert.Equal(LogPosition.Zero, spool.Begin);
    }

    [Fact]
    public async Task The_kept_span_is_given_up_only_at_the_budget()
    {
        var wide = Small with { SpanBytes = 1_000_000, BudgetBytes = 6000 };
        await using var spool = await BeginAsync(wide);
        spool.Retain("fast", new LogPosition(10_000));
        long place = 0;
        await TakeAsync(spool, ++place);
        while (!spool.Full)
        {
            await spool.TrimAsync(cancellation);
            Assert.Equal(LogPosition.Zero, spool.Begin);
            await TakeAsync(spool, ++place);
        }

        await spool.TrimAsync(cancellation);
        Assert.False(spool.Full);
        Assert.True(spool.Begin > LogPosition.Zero);
    }

    /// <summary>
    /// What is written and applied would otherwise stay in the one file that cannot be dropped, and nothing more be taken.
    /// </summary>
    [Fact]
    public async Task A_file_larger_than_the_budget_is_ended_and_dropped()
    {
        await using var spool = await BeginAsync(Small with { FileBytes = 6000 });
        long place = 0;
        while (spool.Bytes < 6000)
        {
            Assert.False(spool.Full);
            await TakeAsync(spool, ++place);
        }

        Assert.True(spool.Full);
        spool.Retain("slow", new LogPosition((ulong)place));
        await spool.TrimAsync(cancellation);
        Assert.False(spool.Full);
        Assert.Equal(new LogPosition((ulong)place), spool.Begin);
    }

    [Fact]
    public async Task What_a_crossing_needs_are_the_files_that_it_has_not_passed()
    {
        await using var spool = await BeginAsync(Small);
        await TakeAsync(spool, [.. Enumerable.Range(1, 60).Select(place => (long)place)]);
        var written = spool.Written;
        Assert.Equal(spool.Bytes, written);
        Assert.Null(spool.NeededBy("none"));
        spool.Retain("unknown", null);
        spool.Retain("behind", new LogPosition(30));
        spool.Retain("done", new LogPosition(60));
        Assert.Equal((written, 0), (spool.NeededBy("unknown"), spool.NeededBy("done")));
        Assert.InRange(spool.NeededBy("behind")!.Value, written / 3, written * 2 / 3);

        spool.Release("unknown");
        await spool.TrimAsync(cancellation);
        Assert.InRange(spool.Bytes, 1, written - 1);
        Assert.Equal(written, spool.Written);
        Assert.InRange(spool.NeededBy("behind")!.Value, written / 3, spool.Bytes);
    }

    [Theory]
    [InlineData(4L << 30, 64L << 20)]
    [InlineData(32L << 20, 2L << 20)]
    public void Files_are_small_beside_the_budget(long budget, long file) =>
        Assert.Equal((budget, file), (SpoolOptions.Within(budget).BudgetBytes, SpoolOptions.Within(budget).FileBytes));

    [Fact]
    public async Task A_place_is_told_with_its_counts_and_what_comes_next()
    {
        await using var spool = await BeginAsync(Small);
        await TakeAsync(spool, 10, 20, 30);
        var place = await spool.LocateAsync(new LogPosition(10), cancellation);
        Assert.Equal((1, 1, DateTimeOffset.UnixEpoch.AddSeconds(20)), (place!.Transactions, place.Changes, place.NextCommittedAt!.Value));
        Assert.Null((await spool.LocateAsync(new LogPosition(30), cancellation))!.NextCommittedAt);
    }

    [Fact]
    public async Task The_tables_that_are_read_and_their_forms_survive()
    {
        await using (var spool = await BeginAsync(Small))
        {
            await spool.CarryAsync(new HashSet<TableName> { SimRows.First.Name, SimRows.Second.Name }, cancellation);
            await TakeAsync(spool, 1);
        }

        await using var again = await OpenAsync(Small);
        Assert.Equal([SimRows.First.Name, SimRows.Second.Name], again.Tables.Order());
        Assert.Equal(SimRows.First.Name, again.Relation(0).Name);
        Assert.Throws<InvalidDataException>(() => again.Relation(7));
    }

    [Fact]
    public async Task The_last_notes_of_the_reader_survive_crashes_and_ends_of_files()
    {
        await using (var spool = await BeginAsync(Small))
        {
            await NoteAsync(spool, ("mark", "first"), ("other", "kept"));
            await spool.SyncAsync(cancellation);
            for (var place = 1; place <= 40; place++)
            {
                await TakeAsync(spool, place);
            }

            await NoteAsync(spool, ("mark", "second"));
            await spool.SyncAsync(cancellation);
            await NoteAsync(spool, ("mark", "not durable"));
        }

        Assert.True(files.All.Count > 2, $"{files.All.Count} files");
        files.Crash();
        await using var again = await OpenAsync(Small);
        Assert.Equal(new Dictionary<string, string> { ["mark"] = "second", ["other"] = "kept" }, again.Notes);
        await again.ClearAsync(cancellation);
        Assert.Empty(again.Notes);
    }

    [Fact]
    public async Task The_origin_of_a_transaction_is_kept()
    {
        await using var spool = await BeginAsync(Small);
        LogFragment[] fragments =
        [
            ScriptedSource.Fragment(1),
            ScriptedSource.Fragment(2) with
            {
                Origin = "elsewhere · über",
            },
            ScriptedSource.Fragment(3) with
            {
                Origin = "",
            },
            ScriptedSource.Fragment(4),
        ];
        await spool.AppendAsync(ScriptedSource.Read(fragments), DateTimeOffset.UnixEpoch, cancellation);
        await spool.SyncAsync(cancellation);
        var read = await ReadAllAsync(spool, 0);
        Assert.Equal([null, "elsewhere · über", "", null], read.Select(fragment => fragment.Origin));
        Assert.Equal(fragments.Select(fragment => fragment.Changes.ToArray()), read.Select(fragment => fragment.Changes.ToArray()));
    }

    [Fact]
    public async Task Cleared_it_can_begin_with_another_log()
    {
        await using var spool = await BeginAsync(Small);
        await TakeAsync(spool, 1, 2);
        await spool.ClearAsync(cancellation);
        await spool.StartAsync(new LogIdentity("other", 2), new LogPosition(500), cancellation);
        await TakeAsync(spool, 501);
        Assert.Equal((1, new LogPosition(500)), ((int)spool.Transactions, spool.Begin));
        Assert.Equal(501UL, Assert.Single(await ReadAllAsync(spool, 500)).Position.Offset);
    }

    private async Task<Spool> BeginAsync(SpoolOptions options)
    {
        var spool = await OpenAsync(options);
        await spool.StartAsync(Log, LogPosition.Zero, cancellation);
        return spool;
    }

    private Task<Spool> OpenAsync(SpoolOptions options) =>
        Spool.OpenAsync(files, new PlainCipher(), options, TimeProvider.System, cancellation);

    private async Task TakeAsync(Spool spool, params long[] places)
    {
        foreach (var place in places)
        {
            await spool.AppendAsync(ScriptedSource.Read(ScriptedSource.Fragment(place)), DateTimeOffset.UnixEpoch, cancellation);
            await spool.SyncAsync(cancellation);
        }
    }

    private async Task<List<SpooledFragment>> ReadAllAsync(Spool spool, ulong after)
    {
        var reader = spool.ReadAfter(new LogPosition(after));
        var all = new List<SpooledFragment>();
        while (await reader.TryReadAsync(1000, cancellation) is { Count: > 0 } read)
        {
            all.AddRange(read);
        }

        return all;
    }

    private Task NoteAsync(Spool spool, params (string Name, string Text)[] notes) =>
        spool.AppendAsync(
            ScriptedSource.Read() with
            {
                Relations = new Dictionary<int, TableSchema>(),
                Notes = notes.ToDictionary(note => note.Name, note => note.Text),
            },
            DateTimeOffset.UnixEpoch,
            cancellation
        );
}
