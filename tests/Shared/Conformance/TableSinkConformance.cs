using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Tests.Conformance;

/// <summary>What everything must do that holds rows and writes each table in one step with its progress.</summary>
public abstract class TableSinkConformance : IAsyncLifetime
{
    private static readonly CancellationToken Stop = TestContext.Current.CancellationToken;
    private ConnectedSink sink = null!;

    protected abstract Task<ConnectedSink> ConnectAsync();

    public async ValueTask InitializeAsync() => sink = await ConnectAsync();

    public async ValueTask DisposeAsync()
    {
        await sink.DisposeAsync();
        GC.SuppressFinalize(this);
    }

    private ITableSink Sink => sink.Connector.Find<ITableSink>()!;

    [Fact]
    public async Task It_can_be_probed_and_says_how_often_a_change_comes()
    {
        Assert.All(await sink.Connector.Find<IProbe>()!.TestAsync(Stop), line => Assert.True(line.Ok, line.Found));
        Assert.Equal(Delivery.ExactlyOncePerTable, Sink.Delivery);
    }

    [Fact]
    public async Task Rows_and_progress_of_a_table_are_written_in_one_step()
    {
        await using (var writer = await LoadedAsync(1, SinkSamples.Row(1, "a"), SinkSamples.Row(2, "b")))
        {
            await writer.ApplyAsync(
                SinkSamples.Folded(
                    new FoldedRow(ChangeKind.Insert, default, SinkSamples.Row(3, "c")),
                    new FoldedRow(ChangeKind.Update, SinkSamples.Row(1, "a"), SinkSamples.Row(1, "x")),
                    new FoldedRow(ChangeKind.Delete, SinkSamples.Row(2, "b"), default)
                ),
                SinkSamples.At(9),
                Stop
            );
        }

        Assert.Equal(["1=x", "3=c"], await sink.ReadAsync());
        Assert.Equal(SinkSamples.At(9), Assert.Single(await Sink.ReadTablesProgressAsync("c", Stop)));
        await using var next = await Sink.OpenWriterAsync("c", 2, Stop);
        Assert.Equal(SinkSamples.At(9), Assert.Single(next.Tables));
    }

    [Fact]
    public async Task What_is_applied_twice_is_there_once()
    {
        await using var writer = await LoadedAsync(1, SinkSamples.Row(1, "a"));
        var folded = SinkSamples.Folded(
            new FoldedRow(ChangeKind.Insert, default, SinkSamples.Row(3, "c")),
            new FoldedRow(ChangeKind.Update, SinkSamples.Row(4, "?"), SinkSamples.Row(4, "d")),
            new FoldedRow(ChangeKind.Delete, SinkSamples.Row(1, "a"), default)
        );
        await writer.ApplyAsync(folded, SinkSamples.At(9), Stop);
        await writer.ApplyAsync(folded, SinkSamples.At(9), Stop);
        Assert.Equal(["3=c", "4=d"], await sink.ReadAsync());
    }

    [Fact]
    public async Task A_table_that_was_emptied_has_only_what_came_after()
    {
        await using var writer = await LoadedAsync(1, SinkSamples.Row(1, "a"), SinkSamples.Row(2, "b"));
        var after = new FoldedTable(
            SinkSamples.Item,
            EmptiedFirst: true,
            [new FoldedRow(ChangeKind.Insert, default, SinkSamples.Row(2, "after"))]
        );
        await writer.ApplyAsync(after, SinkSamples.At(9), Stop);
        Assert.Equal(["2=after"], await sink.ReadAsync());
    }

    [Fact]
    public async Task A_worker_that_was_succeeded_writes_nothing()
    {
        await using var old = await LoadedAsync(3, SinkSamples.Row(1, "a"));
        await using var next = await Sink.OpenWriterAsync("c", 4, Stop);
        var change = SinkSamples.Folded(new FoldedRow(ChangeKind.Insert, default, SinkSamples.Row(2, "old")));
        await Assert.ThrowsAsync<FencedException>(() => old.ApplyAsync(change, SinkSamples.At(9), Stop));
        await Assert.ThrowsAsync<FencedException>(() => old.SaveAsync(SinkSamples.At(9), Stop));
        await Assert.ThrowsAsync<FencedException>(() => old.BeginLoadAsync(SinkSamples.Item, SinkSamples.Begun, Stop));
        await Assert.ThrowsAsync<FencedException>(() => Sink.OpenWriterAsync("c", 4, Stop));
        Assert.Equal(["1=a"], await sink.ReadAsync());
        Assert.Equal(SinkSamples.At(5), Assert.Single(await Sink.ReadTablesProgressAsync("c", Stop)));
    }

    [Fact]
    public async Task A_load_that_begins_again_has_nothing_of_the_one_before()
    {
        await using (var writer = await Sink.OpenWriterAsync("c", 1, Stop))
        {
            await writer.BeginLoadAsync(SinkSamples.Item, SinkSamples.Begun, Stop);
            await writer.LoadAsync(SinkSamples.Item, SinkSamples.Block(SinkSamples.Row(1, "gone since")), Stop);
        }

        await using var next = await LoadedAsync(2, SinkSamples.Row(2, "b"));
        Assert.Equal(["2=b"], await sink.ReadAsync());
    }

    [Fact]
    public async Task Progress_can_be_written_alone_and_forgotten()
    {
        await using (var writer = await LoadedAsync(1, SinkSamples.Row(1, "a")))
        {
            var held = SinkSamples.At(7) with { HeldCause = "Its form changed." };
            await writer.SaveAsync(held, Stop);
            Assert.Equal(held, Assert.Single(await Sink.ReadTablesProgressAsync("c", Stop)));
        }

        await Sink.ForgetTablesAsync("c", Stop);
        Assert.Empty(await Sink.ReadTablesProgressAsync("c", Stop));
    }

    private async Task<ITableWriter> LoadedAsync(long term, params Row[] rows)
    {
        var writer = await Sink.OpenWriterAsync("c", term, Stop);
        await writer.BeginLoadAsync(SinkSamples.Item, SinkSamples.Begun, Stop);
        await writer.LoadAsync(SinkSamples.Item, SinkSamples.Block(rows), Stop);
        await writer.EndLoadAsync(SinkSamples.Item, SinkSamples.At(5), Stop);
        return writer;
    }
}
