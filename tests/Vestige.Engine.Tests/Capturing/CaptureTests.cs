using Microsoft.Extensions.Logging.Abstractions;
using Vestige.Core.Positions;
using Vestige.Engine.Capturing;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Spooling;
using Vestige.Engine.Tests.Doubles;
using Vestige.Engine.Tests.Simulation;
using Xunit;

namespace Vestige.Engine.Tests.Capturing;

/// <summary>Reading one log for all crossings: full disks, added tables, another log.</summary>
public sealed class CaptureTests : IAsyncLifetime
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly MemoryFiles files = new();
    private readonly ScriptedSource source = new();
    private readonly MemoryStore store = new();
    private Capture capture = null!;

    public async ValueTask InitializeAsync() => capture = await OpenAsync(new SpoolOptions());

    public ValueTask DisposeAsync() => capture.DisposeAsync();

    [Fact]
    public async Task A_full_disk_is_told_and_nothing_is_confirmed_until_there_is_room()
    {
        await capture.CarryAsync([SimRows.First.Name], cancellation);
        source.Commit(1);
        await UntilAsync(() => source.Confirmed.Contains(new LogPosition(1)), "the first confirmation");
        files.Full = true;
        source.Commit(2, 3);
        await UntilAsync(() => capture.Status.Waiting is not null, "a message");
        Assert.Contains("No space left", capture.Status.Waiting, StringComparison.Ordinal);
        Assert.Equal(new LogPosition(1), source.Confirmed.Max());
        files.Full = false;
        await UntilAsync(() => source.Confirmed.Contains(new LogPosition(3)), "the rest");
        var reader = capture.Spool.ReadAfter(LogPosition.Zero);
        var places = new List<ulong>();
        while (await reader.TryReadAsync(1000, cancellation) is { Count: > 0 } read)
        {
            places.AddRange(read.Select(fragment => fragment.Position.Offset));
        }

        Assert.Equal([1UL, 2UL, 3UL], places);
        Assert.Contains(store.Events, happened => happened.Text.Contains("No space left", StringComparison.Ordinal));
    }

    /// <summary>Time stands still, so that only being asked can end the pause.</summary>
    [Fact]
    public async Task The_next_attempt_is_told_and_made_at_once_when_a_person_asks()
    {
        await capture.DisposeAsync();
        capture = await OpenAsync(new SpoolOptions(), new StillClock());
        await capture.CarryAsync([SimRows.First.Name], cancellation);
        files.Full = true;
        source.Commit(1);
        await UntilAsync(() => capture.Status.Waiting is not null, "a message");
        Assert.InRange(capture.Status.NextAttempt!.Value, StillClock.Now, StillClock.Now.AddMinutes(1));
        files.Full = false;
        capture.RetryNow();
        await UntilAsync(() => capture.Spool.Last == new LogPosition(1), "the transaction");
        await UntilAsync(() => capture.Status is { Waiting: null, NextAttempt: null }, "reading");
    }

    [Fact]
    public async Task Two_crossings_that_start_at_once_both_get_their_tables()
    {
        for (var round = 0; round < 12; round++)
        {
            var first = capture.CarryAsync([SimRows.First.Name, new("sim", $"a{round}")], cancellation);
            var second = capture.CarryAsync([SimRows.First.Name], cancellation);
            var third = capture.CarryAsync([new("sim", $"b{round}")], cancellation);
            await Task.WhenAll(first, second, third).WaitAsync(TimeSpan.FromSeconds(120), cancellation);
        }

        Assert.Equal(25, capture.Spool.Tables.Count);
    }

    [Fact]
    public async Task Another_log_under_the_same_name_is_not_read_on()
    {
        await capture.CarryAsync([SimRows.First.Name], cancellation);
        source.Commit(1);
        await UntilAsync(() => source.Confirmed.Contains(new LogPosition(1)), "the confirmation");
        await capture.DisposeAsync();
        source.Identity = new LogIdentity("scripted", 2);
        capture = await OpenAsync(new SpoolOptions());
        await UntilAsync(() => capture.Status.LostPlace, "the loss");
        Assert.Contains("restored or replaced", capture.Status.Waiting, StringComparison.Ordinal);
        await Assert.ThrowsAsync<PlaceLostException>(() => capture.CarryAsync([SimRows.First.Name], cancellation));
        await capture.RestartAsync(cancellation);
        await capture.CarryAsync([SimRows.First.Name], cancellation);
        Assert.Equal(source.Identity, capture.Spool.Identity);
    }

    [Fact]
    public async Task At_the_budget_it_waits_until_a_crossing_has_moved_on()
    {
        await capture.DisposeAsync();
        files.All.Clear();
        capture = await OpenAsync(new SpoolOptions(FileBytes: 300, BudgetBytes: 1500, RecordBytes: 100, SpanBytes: 0));
        capture.Spool.Retain("slow", LogPosition.Zero);
        await capture.CarryAsync([SimRows.First.Name], cancellation);
        source.Commit([.. Enumerable.Range(1, 100).Select(place => (long)place)]);
        await UntilAsync(() => capture.Status.Waiting is not null, "the budget");
        Assert.Contains("budget of 1500 bytes", capture.Status.Waiting, StringComparison.Ordinal);
        var stood = capture.Spool.Last;
        Assert.True(stood < new LogPosition(100));
        capture.Spool.Retain("slow", new LogPosition(100));
        await UntilAsync(() => capture.Spool.Last == new LogPosition(100), "the rest");
        Assert.Null(capture.Status.Waiting);
    }

    private async Task<Capture> OpenAsync(SpoolOptions options, TimeProvider? clock = null)
    {
        var spool = await Spool.OpenAsync(files, new PlainCipher(), options, TimeProvider.System, cancellation);
        var opened = new Capture(
            "scripted",
            () => source,
            spool,
            clock ?? TimeProvider.System,
            new Random(1),
            new EventLog(store, TimeProvider.System, NullLogger.Instance),
            NullLogger.Instance
        );
        opened.Start();
        return opened;
    }

    private async Task UntilAsync(Func<bool> holds, string what)
    {
        var until = DateTimeOffset.UtcNow.AddSeconds(120);
        while (!holds())
        {
            Assert.True(DateTimeOffset.UtcNow < until, $"waited in vain for {what}: {capture.Status}");
            await Task.Delay(10, cancellation);
        }
    }

    private sealed class StillClock : TimeProvider
    {
        public static readonly DateTimeOffset Now = new(2026, 11, 30, 12, 0, 0, TimeSpan.Zero);

        public override DateTimeOffset GetUtcNow() => Now;

        public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period) => new Timer();

        private sealed class Timer : ITimer
        {
            public bool Change(TimeSpan dueTime, TimeSpan period) => true;

            public void Dispose()
            {
                // There is nothing to end.
            }

            public ValueTask DisposeAsync() => ValueTask.CompletedTask;
        }
    }
}
