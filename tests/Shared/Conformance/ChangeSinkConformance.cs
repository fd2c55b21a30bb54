using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Tests.Conformance;

/// <summary>What everything must do that takes changes in order.</summary>
public abstract class ChangeSinkConformance : IAsyncLifetime
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

    private IChangeSink Sink => sink.Connector.Find<IChangeSink>()!;

    [Fact]
    public async Task It_can_be_probed_and_says_how_often_a_change_comes()
    {
        Assert.All(await sink.Connector.Find<IProbe>()!.TestAsync(Stop), line => Assert.True(line.Ok, line.Found));
        Assert.NotEmpty(await sink.Connector.Find<IProbe>()!.GetIdentityAsync(Stop));
        Assert.Equal(Delivery.AtLeastOnceWithId, Sink.Delivery);
    }

    [Fact]
    public async Task Transactions_and_their_changes_stand_in_the_order_in_which_they_were_written()
    {
        await using var writer = await Sink.OpenWriterAsync("c", 1, Stop);
        await writer.WriteAsync(
            [
                SinkSamples.Transaction(5, SinkSamples.Insert(2, "a"), SinkSamples.Insert(1, "b")),
                SinkSamples.Transaction(7, SinkSamples.Update(1, "b", "c")),
            ],
            Stop
        );
        await writer.WriteAsync([SinkSamples.Transaction(9, SinkSamples.Delete(2, "a"))], Stop);
        Assert.Equal(["+2 a", "+1 b", "~1 c", "−2"], await sink.ReadAsync());
    }

    [Fact]
    public async Task What_is_written_again_has_the_same_identifiers_and_nothing_else_has()
    {
        OrderedTransaction[] both =
        [
            SinkSamples.Transaction(5, SinkSamples.Insert(1, "a"), SinkSamples.Insert(2, "a")),
            SinkSamples.Transaction(7, SinkSamples.Insert(3, "a")),
        ];
        await using (var writer = await Sink.OpenWriterAsync("c", 1, Stop))
        {
            await writer.WriteAsync(both, Stop);
        }

        await using var next = await Sink.OpenWriterAsync("c", 2, Stop);
        await next.WriteAsync(both, Stop);
        var identifiers = await sink.IdentifiersAsync();
        Assert.Equal(3, identifiers.Distinct().Count());
        var read = await sink.ReadAsync();
        Assert.Equal(["+1 a", "+2 a", "+3 a"], read.Zip(identifiers).DistinctBy(pair => pair.Second).Select(pair => pair.First));
    }

    [Fact]
    public async Task A_large_transaction_comes_part_by_part()
    {
        await using var writer = await Sink.OpenWriterAsync("c", 1, Stop);
        await writer.WriteAsync([SinkSamples.Part(5, isFirst: true, isLast: false, 0, SinkSamples.Insert(1, "a"))], Stop);
        await writer.WriteAsync([SinkSamples.Part(5, isFirst: false, isLast: false, 1, SinkSamples.Insert(2, "a"))], Stop);
        await writer.WriteAsync([SinkSamples.Part(5, isFirst: false, isLast: true, 2)], Stop);
        Assert.Equal(["+1 a", "+2 a"], await sink.ReadAsync());
        Assert.Equal(2, (await sink.IdentifiersAsync()).Distinct().Count());
    }

    [Fact]
    public async Task A_worker_that_was_succeeded_writes_nothing()
    {
        await using var old = await Sink.OpenWriterAsync("c", 3, Stop);
        await using var other = await Sink.OpenWriterAsync("another", 1, Stop);
        await using var next = await Sink.OpenWriterAsync("c", 4, Stop);
        await Assert.ThrowsAsync<FencedException>(() => old.WriteAsync([SinkSamples.Transaction(5, SinkSamples.Insert(1, "old"))], Stop));
        await Assert.ThrowsAsync<FencedException>(() => old.BeginLoadAsync(SinkSamples.Item, SinkSamples.Begun, Stop));
        await Assert.ThrowsAsync<FencedException>(() => Sink.OpenWriterAsync("c", 4, Stop));
        await next.WriteAsync([SinkSamples.Transaction(5, SinkSamples.Insert(1, "new"))], Stop);
        Assert.Equal(["+1 new"], await sink.ReadAsync());
    }

    [Fact]
    public async Task The_rows_of_a_load_stand_between_its_begin_and_its_end()
    {
        await using var writer = await Sink.OpenWriterAsync("c", 1, Stop);
        await writer.BeginLoadAsync(SinkSamples.Item, SinkSamples.Begun, Stop);
        await writer.LoadAsync(SinkSamples.Item, SinkSamples.Block(SinkSamples.Row(1, "a"), SinkSamples.Row(2, "b")), Stop);
        await writer.LoadAsync(SinkSamples.Item, SinkSamples.Block(SinkSamples.Row(3, "c")), Stop);
        await writer.EndLoadAsync(SinkSamples.Item, SinkSamples.At(5), Stop);
        await writer.WriteAsync([SinkSamples.Transaction(7, SinkSamples.Delete(3, "c"))], Stop);
        Assert.Equal(["[", "·1 a", "·2 b", "·3 c", "]", "−3"], await sink.ReadAsync());
    }

    [Fact]
    public async Task A_load_that_begins_again_says_so()
    {
        await using (var writer = await Sink.OpenWriterAsync("c", 1, Stop))
        {
            await writer.BeginLoadAsync(SinkSamples.Item, SinkSamples.Begun, Stop);
            await writer.LoadAsync(SinkSamples.Item, SinkSamples.Block(SinkSamples.Row(1, "a")), Stop);
        }

        await using var next = await Sink.OpenWriterAsync("c", 2, Stop);
        await next.BeginLoadAsync(SinkSamples.Item, SinkSamples.Begun, Stop);
        await next.LoadAsync(SinkSamples.Item, SinkSamples.Block(SinkSamples.Row(1, "later")), Stop);
        await next.EndLoadAsync(SinkSamples.Item, SinkSamples.At(5), Stop);
        var read = await sink.ReadAsync();
        Assert.Equal(["[", "·1 later", "]"], read.Skip(read.ToList().LastIndexOf("[")));
    }
}
