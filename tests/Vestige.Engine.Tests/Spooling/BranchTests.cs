using Vestige.Core.Joining;
using Vestige.Core.Positions;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Tests.Doubles;
using Xunit;

namespace Vestige.Engine.Tests.Spooling;

/// <summary>One branch of a log ends, and the next follows.</summary>
public sealed class BranchTests
{
    private static readonly LogIdentity Old = new("scripted", 1);
    private static readonly LogIdentity New = new("scripted", 2);
    private static readonly JoinPoint Join = new(Old, 3, New, 100, JoinEvidence.Complete(JoinKind.Proved));
    private static readonly SpoolOptions Small = new(FileBytes: 400, BudgetBytes: 4000, RecordBytes: 100, SpanBytes: 0);
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly MemoryFiles files = new();

    [Fact]
    public async Task The_next_branch_begins_after_the_end_and_both_are_read_in_order()
    {
        await using var spool = await JoinedAsync();
        Assert.Equal((New, 1, new LogPosition(1, 101)), (spool.Identity, spool.Branch, spool.Last));
        Assert.Equal(3UL, spool.Branches[0].End);
        Assert.Equal(
            [new LogPosition(1), new LogPosition(2), new LogPosition(3), new LogPosition(1, 101)],
            await ReadAsync(spool.ReadAfter(LogPosition.Zero))
        );
    }

    /// <summary>Numbers before the beginning of a branch are of the log before it, and which of it they are, nobody knows.</summary>
    [Fact]
    public async Task What_lies_before_the_beginning_of_a_branch_is_not_held()
    {
        await using var spool = await JoinedAsync();
        Assert.True(spool.Contains(new LogPosition(1, 100)));
        Assert.False(spool.Contains(new LogPosition(1, 99)));
        Assert.Throws<PlaceLostException>(() => spool.ReadAfter(new LogPosition(1, 99)));
    }

    [Fact]
    public async Task A_reader_within_a_branch_stops_at_its_end_and_says_so()
    {
        await using var spool = await JoinedAsync();
        var reader = spool.ReadAfter(LogPosition.Zero, withinBranch: true);
        Assert.Equal([1UL, 2UL, 3UL], (await ReadAsync(reader)).Select(position => position.Offset));
        Assert.True(reader.AtBranchEnd);
        Assert.Empty(await reader.ReadAsync(1000, cancellation));

        // The end and the beginning are one state: a reader may stand at either.
        var atEnd = spool.ReadAfter(new LogPosition(3), withinBranch: true);
        Assert.Empty(await atEnd.TryReadAsync(1000, cancellation));
        Assert.True(atEnd.AtBranchEnd);
        Assert.Equal(new LogPosition(1, 100), spool.NextOf(new LogPosition(3)));
        Assert.Equal([new LogPosition(1, 101)], await ReadAsync(spool.ReadAfter(new LogPosition(1, 100), withinBranch: true)));
    }

    [Fact]
    public async Task Branches_and_a_join_that_is_yet_to_be_reached_outlive_the_process()
    {
        await using (var spool = await BeginAsync())
        {
            await TakeAsync(spool, 1, 2);
            await spool.SealAsync(Join, cancellation);
        }

        files.Crash();
        await using (var again = await OpenAsync())
        {
            Assert.Equal(Join, again.Join);
            await TakeAsync(again, 3);
            await again.BeginBranchAsync(cancellation);
        }

        files.Crash();
        await using var last = await OpenAsync();
        Assert.Null(last.Join);
        Assert.Equal((New, new LogPosition(1, 100)), (last.Identity, last.Last));
        Assert.Equal(JoinKind.Proved, last.Branches[1].OpenedBy!.Kind);
        Assert.Empty(last.Notes);
    }

    [Fact]
    public async Task A_join_that_is_yet_to_be_reached_goes_from_file_to_file()
    {
        var join = Join with { End = 60 };
        await using (var spool = await BeginAsync())
        {
            await TakeAsync(spool, 1);
            await spool.SealAsync(join, cancellation);
            await TakeAsync(spool, [.. Enumerable.Range(2, 49).Select(offset => (long)offset)]);
            Assert.True(files.All.Count > 2);
        }

        await using var again = await OpenAsync();
        Assert.Equal(join, again.Join);
    }

    [Fact]
    public async Task A_crossing_at_the_end_of_a_branch_lacks_nothing_when_that_branch_is_dropped()
    {
        await using var spool = await JoinedAsync();
        spool.Retain("copy", new LogPosition(3));
        await spool.TrimAsync(cancellation);
        Assert.Equal(new LogPosition(1, 100), spool.Begin);
        Assert.True(spool.Contains(new LogPosition(3)));
        Assert.False(spool.Contains(new LogPosition(2)));
        Assert.True(spool.ReadAfter(new LogPosition(3), withinBranch: true) is not null);
        Assert.Throws<PlaceLostException>(() => spool.ReadAfter(new LogPosition(2)));
    }

    [Fact]
    public async Task A_join_is_asked_for_again_without_harm_and_another_is_refused()
    {
        await using var spool = await BeginAsync();
        await TakeAsync(spool, 1);
        await spool.SealAsync(Join, cancellation);
        await spool.SealAsync(Join, cancellation);
        await Assert.ThrowsAsync<RequestRefusedException>(() => spool.SealAsync(Join with { End = 2 }, cancellation));
        await TakeAsync(spool, 2, 3);
        await spool.BeginBranchAsync(cancellation);
        await spool.SealAsync(Join, cancellation);
        Assert.Null(spool.Join);
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            spool.SealAsync(Join with { Evidence = new JoinEvidence(JoinKind.Proved, []) }, cancellation)
        );
    }

    [Fact]
    public async Task A_branch_does_not_end_before_its_end()
    {
        await using var spool = await BeginAsync();
        await TakeAsync(spool, 1);
        await Assert.ThrowsAsync<InvalidOperationException>(() => spool.BeginBranchAsync(cancellation));
        await spool.SealAsync(Join, cancellation);
        await Assert.ThrowsAsync<InvalidOperationException>(() => spool.BeginBranchAsync(cancellation));
    }

    /// <summary>What a target stores has the identity of its log; the numbers are put on when it is opened.</summary>
    [Fact]
    public async Task What_a_target_stores_is_matched_with_the_branches()
    {
        await using var spool = await JoinedAsync();
        var table = new TableProgress(new("sim", "first"), Loaded: true, new LogPosition(2)) { Log = Old };
        var stored = new TargetProgress(
            New,
            new LogPosition(101),
            [table, table with { Log = null, Position = new LogPosition(105) }, table with { Log = new LogIdentity("other", 1) }]
        );
        var matched = stored.Match(spool.Branches);
        Assert.Equal(new LogPosition(1, 101), matched.Position);
        Assert.Equal(
            [new LogPosition(0, 2), new LogPosition(1, 105), new LogPosition(LogPosition.BeforeAll, 2)],
            matched.Tables.Select(one => one.Position)
        );
        Assert.Equal(
            LogPosition.BeforeAll,
            (stored with { Identity = new LogIdentity("other", 1) }).Match(spool.Branches).Position!.Value.Branch
        );
        Assert.False(spool.Contains(new LogPosition(LogPosition.BeforeAll, 2)));
    }

    /// <summary>A load can have read the old log further than the branch goes: the table then has every change of the branch.</summary>
    [Fact]
    public async Task A_table_that_was_loaded_beyond_the_end_of_a_branch_stands_after_its_end()
    {
        await using var spool = await JoinedAsync();
        var end = spool.Branches[0].End!.Value;
        var table = new TableProgress(new("sim", "first"), Loaded: true, new LogPosition(end + 5));
        var matched = new TargetProgress(Old, new LogPosition(1), [table]).Match(spool.Branches);
        Assert.Equal(new LogPosition(0, end + 5), matched.Tables[0].Position);
        Assert.True(matched.Tables[0].IsAheadOf(new LogPosition(0, end)));
        Assert.False((table with { Position = new LogPosition(end) }).IsAheadOf(new LogPosition(0, end)));

        // Before the first load has ended, no stream brings it to the end of the branch.
        Assert.Equal(LogPosition.BeforeAll, new TargetProgress(Old, null, [table]).Match(spool.Branches).Tables[0].Position.Branch);
    }

    [Fact]
    public async Task The_distance_between_two_positions_counts_each_branch()
    {
        await using var spool = await JoinedAsync();
        var source = new ScriptedSource();
        Assert.Equal(2 + 1, spool.Distance(source, new LogPosition(1), new LogPosition(1, 101)));
        Assert.Equal(1, spool.Distance(source, new LogPosition(1, 100), new LogPosition(1, 101)));
    }

    private async Task<Spool> JoinedAsync()
    {
        var spool = await BeginAsync();
        await TakeAsync(spool, 1, 2, 3);
        await spool.SealAsync(Join, cancellation);
        await spool.BeginBranchAsync(cancellation);
        await spool.AppendAsync(ScriptedSource.Read(ScriptedSource.Fragment(101)).On(1), DateTimeOffset.UnixEpoch, cancellation);
        await spool.SyncAsync(cancellation);
        return spool;
    }

    private async Task<Spool> BeginAsync()
    {
        var spool = await OpenAsync();
        await spool.StartAsync(Old, LogPosition.Zero, cancellation);
        return spool;
    }

    private Task<Spool> OpenAsync() => Spool.OpenAsync(files, new PlainCipher(), Small, TimeProvider.System, cancellation);

    private async Task TakeAsync(Spool spool, params long[] offsets)
    {
        foreach (var offset in offsets)
        {
            await spool.AppendAsync(ScriptedSource.Read(ScriptedSource.Fragment(offset)), DateTimeOffset.UnixEpoch, cancellation);
            await spool.SyncAsync(cancellation);
        }
    }

    private async Task<List<LogPosition>> ReadAsync(SpoolReader reader)
    {
        var positions = new List<LogPosition>();
        while (await reader.TryReadAsync(1000, cancellation) is { Count: > 0 } read)
        {
            positions.AddRange(read.Select(fragment => fragment.Position));
        }

        return positions;
    }
}
