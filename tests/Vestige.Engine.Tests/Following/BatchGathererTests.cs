using System.Collections.Immutable;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Following;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Spooling;
using Vestige.Engine.Tests.Doubles;
using Vestige.Engine.Treating;
using Vestige.Tests.Shared.Quarantine;
using Xunit;

namespace Vestige.Engine.Tests.Following;

public sealed class BatchGathererTests
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <summary>
    /// While the spool reopens its files it finds nothing in them, which does not mean that everything before the mark was applied.
    /// </summary>
    [Fact]
    public async Task A_mark_is_not_reached_while_the_spool_cannot_be_read()
    {
        var files = new LockableFiles();
        await using var spool = await Spool.OpenAsync(files, new PlainCipher(), new SpoolOptions(), TimeProvider.System, cancellation);
        await spool.StartAsync(new LogIdentity("scripted", 1), LogPosition.Zero, cancellation);
        await spool.AppendAsync(
            ScriptedSource.Read(ScriptedSource.Fragment(1), ScriptedSource.Fragment(2), ScriptedSource.Fragment(3)),
            DateTimeOffset.UnixEpoch,
            cancellation
        );
        var end = await spool.SyncAsync(cancellation);

        var idle = new TaskCompletionSource();
        var gatherer = GathererOf(spool);
        gatherer.Mark = new StopMark(end);
        gatherer.Idle = () => idle.TrySetResult();
        files.Lock();
        var recovering = spool.RecoverAsync(cancellation);
        Assert.False(spool.Readable);
        Assert.Equal(end, spool.Last);
        var gathering = gatherer.NextAsync(cancellation);
        await Task.WhenAny(gathering, idle.Task);
        Assert.False(gathering.IsCompleted, "The mark was taken for reached.");
        Assert.False(gatherer.AtMark);

        files.Unlock();
        await recovering;
        Assert.Equal(end, (await gathering)!.Update.Position);
        Assert.Null(await gatherer.NextAsync(cancellation));
        Assert.True(gatherer.AtMark);
    }

    private static BatchGatherer GathererOf(Spool spool)
    {
        var definition = new CrossingDefinition("copy", CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "*")]));
        var treating = new CrossingTreatment(
            definition,
            new ConnectorOfPorts(new ScriptedSource()).Source,
            new ConnectorOfPorts(new ScriptedTarget()).Target,
            new PlainKeys()
        );
        var aside = new SkippedRows(new Quarantine("copy", new MemoryQuarantine()), TimeProvider.System);
        var router = new ChangeRouter(spool, treating, aside, ImmutableDictionary<TableName, TableProgress>.Empty);
        var builder = new FoldedBatchBuilder(spool, router);
        return new BatchGatherer(spool, spool.ReadAfter(LogPosition.Zero), builder, TimeProvider.System, 1 << 20);
    }

    /// <summary>Files that cannot be listed while they are locked.</summary>
    private sealed class LockableFiles : ISpoolFiles
    {
        private readonly MemoryFiles files = new();
        private TaskCompletionSource open = new();

        public LockableFiles() => open.SetResult();

        public void Lock() => open = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);

        public void Unlock() => open.SetResult();

        public async Task<IReadOnlyList<long>> ListAsync(CancellationToken cancellation)
        {
            await open.Task;
            return await files.ListAsync(cancellation);
        }

        public Task<ISpoolFile> OpenAsync(long number, CancellationToken cancellation) => files.OpenAsync(number, cancellation);

        public Task DeleteAsync(long number, CancellationToken cancellation) => files.DeleteAsync(number, cancellation);
    }
}
