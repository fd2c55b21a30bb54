using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Engine.Capturing;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Tests.Doubles;
using Xunit;

namespace Vestige.Engine.Tests.Capturing;

/// <summary>By when everything is known to have been read, on which stops at a time rest.</summary>
public sealed class CaptureStateTests : IAsyncLifetime
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);
    private static readonly LogIdentity Log = new("scripted", 1);
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private Spool spool = null!;
    private CaptureState state = null!;

    public async ValueTask InitializeAsync()
    {
        spool = await Spool.OpenAsync(new MemoryFiles(), new PlainCipher(), new SpoolOptions(), TimeProvider.System, cancellation);
        await spool.StartAsync(Log, LogPosition.Zero, cancellation);
        state = new CaptureState("a", spool);
    }

    public ValueTask DisposeAsync() => spool.DisposeAsync();

    /// <summary>
    /// A server stamps a commit before it stands in the log, so what is written by a moment holds only what was stamped some time before.
    /// </summary>
    [Fact]
    public async Task Everything_is_read_up_to_a_second_before_what_was_written_then_is_durable_here()
    {
        Sample(second: 10, head: 3, written: 5);
        Assert.Null(state.Status.ReadThrough);
        await TakeAsync(3);
        Assert.Null(state.Status.ReadThrough);
        Sample(second: 11, head: 8, written: 8);
        await TakeAsync(5);
        Assert.Equal(Start.AddSeconds(9), state.Status.ReadThrough);
        await TakeAsync(9);
        Assert.Equal(Start.AddSeconds(10), state.Status.ReadThrough);

        // At rest the next sample says so by itself.
        Sample(second: 60, head: 9, written: 9);
        Assert.Equal(Start.AddSeconds(59), state.Status.ReadThrough);
    }

    /// <summary>What was read and is not durable here may be lost with us, and is not seen by who applies.</summary>
    [Fact]
    public async Task What_is_only_read_does_not_count()
    {
        Sample(second: 10, head: 5, written: 5);
        var read = ScriptedSource.Read(ScriptedSource.Fragment(5));
        state.Read(read, Start.AddSeconds(10));
        await spool.AppendAsync(read, Start, cancellation);
        state.Spooled(spool.Last);
        Assert.Null(state.Status.ReadThrough);
        state.Spooled(await spool.SyncAsync(cancellation));
        Assert.Equal(Start.AddSeconds(9), state.Status.ReadThrough);
    }

    [Fact]
    public async Task Far_behind_it_is_known_late_and_never_too_early()
    {
        for (var second = 0; second < 100; second++)
        {
            Sample(second, head: second + 1, written: second + 1);
        }

        await TakeAsync(5);
        Assert.Equal(Start.AddSeconds(3), state.Status.ReadThrough);
        await TakeAsync(100);
        Assert.InRange(state.Status.ReadThrough!.Value, Start.AddSeconds(8), Start.AddSeconds(98));
        Sample(second: 100, head: 100, written: 100);
        Assert.Equal(Start.AddSeconds(99), state.Status.ReadThrough);
        state.Restart();
        Assert.Null(state.Status.ReadThrough);
    }

    /// <summary>The time of an empty transaction is ours, of when the log had been read so far.</summary>
    [Fact]
    public void Only_what_has_changes_lies_behind_a_time()
    {
        SpooledFragment At(int second, int count) =>
            new(new LogPosition(7), Start.AddSeconds(second), Start, First: true, Last: true, count, default, 1, 1);
        var mark = new StopMark(Time: Start.AddSeconds(5));
        Assert.Equal((false, true, false), (At(5, 1).IsAfter(mark), At(6, 1).IsAfter(mark), At(6, 0).IsAfter(mark)));
        Assert.True(At(6, 0).IsAfter(new StopMark(new LogPosition(6))) && !At(6, 0).IsAfter(new StopMark(new LogPosition(7))));
    }

    private void Sample(int second, long head, long written) =>
        state.Sample(
            new SourceHead(
                Log,
                new LogPosition((ulong)head),
                LogPosition.Zero,
                0,
                null,
                null,
                Start.AddSeconds(second),
                new LogPosition((ulong)written)
            ),
            Start.AddSeconds(second)
        );

    private async Task TakeAsync(long place)
    {
        await spool.AppendAsync(ScriptedSource.Read(ScriptedSource.Fragment(place)), Start, cancellation);
        state.Spooled(await spool.SyncAsync(cancellation));
    }
}
