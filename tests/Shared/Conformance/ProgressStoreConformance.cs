using Vestige.Core.Positions;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Tests.Conformance;

/// <summary>What every place must do that keeps how far crossings are.</summary>
public abstract class ProgressStoreConformance : IAsyncLifetime
{
    private static readonly CancellationToken Stop = TestContext.Current.CancellationToken;
    private IProgressStore store = null!;

    /// <summary>An empty store.</summary>
    protected abstract Task<IProgressStore> OpenAsync();

    /// <summary>The same store as another process finds it.</summary>
    protected abstract IProgressStore Again(IProgressStore store);

    public async ValueTask InitializeAsync() => store = await OpenAsync();

    public virtual ValueTask DisposeAsync()
    {
        GC.SuppressFinalize(this);
        return ValueTask.CompletedTask;
    }

    [Fact]
    public async Task What_is_saved_is_found_by_the_next()
    {
        AssertNone(await store.ReadProgressAsync("c", Stop));
        var update = new ProgressUpdate(
            new LogPosition(ulong.MaxValue - 3),
            [SinkSamples.At(5), new TableProgress(new("made", "held"), Loaded: true, new LogPosition(4), HeldCause: "Its form changed.")],
            SinkSamples.Log,
            Token: "here"
        );
        await using (var session = await store.OpenProgressAsync("c", 1, Stop))
        {
            AssertNone(session.Progress);
            await session.SaveAsync(update, Stop);
            await session.SaveAsync(ProgressUpdate.None, Stop);
        }

        var found = await Again(store).ReadProgressAsync("c", Stop);
        Assert.Equal((update.Identity, update.Position, update.Token), (found.Identity, found.Position, found.Token));
        Assert.Equal(update.Tables.OrderBy(table => table.Table), found.Tables);
        await using var next = await Again(store).OpenProgressAsync("c", 2, Stop);
        Assert.Equal(found.Position, next.Progress.Position);
        AssertNone(await store.ReadProgressAsync("another", Stop));
    }

    [Fact]
    public async Task A_restart_forgets_the_position_and_keeps_the_tables()
    {
        await using var session = await store.OpenProgressAsync("c", 1, Stop);
        await session.SaveAsync(new ProgressUpdate(new LogPosition(9), [SinkSamples.At(5)], SinkSamples.Log, Token: "here"), Stop);
        await session.SaveAsync(new ProgressUpdate(null, [], Restart: true), Stop);
        var found = await Again(store).ReadProgressAsync("c", Stop);
        Assert.Equal((SinkSamples.Log, null, null), (found.Identity, found.Position, found.Token));
        Assert.Equal(SinkSamples.At(5), Assert.Single(found.Tables));
    }

    [Fact]
    public async Task A_worker_that_was_succeeded_saves_nothing()
    {
        await using var old = await store.OpenProgressAsync("c", 3, Stop);
        await old.SaveAsync(new ProgressUpdate(new LogPosition(9), [], SinkSamples.Log), Stop);
        var refused = await Assert.ThrowsAsync<FencedException>(() => Again(store).OpenProgressAsync("c", 3, Stop));
        Assert.Equal(3, refused.Term);
        await using var next = await Again(store).OpenProgressAsync("c", 4, Stop);
        await Assert.ThrowsAsync<FencedException>(() => old.SaveAsync(new ProgressUpdate(new LogPosition(11), []), Stop));
        await Assert.ThrowsAsync<FencedException>(() => old.SaveAsync(ProgressUpdate.None, Stop));
        Assert.Equal(new LogPosition(9), (await store.ReadProgressAsync("c", Stop)).Position);
        await next.SaveAsync(new ProgressUpdate(new LogPosition(10), []), Stop);
        Assert.Equal(new LogPosition(10), (await store.ReadProgressAsync("c", Stop)).Position);
    }

    [Fact]
    public async Task What_was_forgotten_is_not_there()
    {
        await using (var session = await store.OpenProgressAsync("c", 1, Stop))
        {
            await session.SaveAsync(new ProgressUpdate(new LogPosition(9), [SinkSamples.At(5)], SinkSamples.Log), Stop);
        }

        await store.ForgetAsync("c", Stop);
        AssertNone(await Again(store).ReadProgressAsync("c", Stop));
        await store.ForgetAsync("c", Stop);
    }

    private static void AssertNone(TargetProgress progress)
    {
        Assert.Equal((null, null, null), (progress.Identity, progress.Position, progress.Token));
        Assert.Empty(progress.Tables);
    }
}
