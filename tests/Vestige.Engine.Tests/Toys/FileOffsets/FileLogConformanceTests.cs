using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Tests.Conformance;
using Xunit;

namespace Vestige.Engine.Tests.Toys.FileOffsets;

/// <summary>The source with files and offsets under the suite for logs; and what it says when another server has taken over.</summary>
public sealed class FileLogConformanceTests : LogConformance
{
    private readonly Connected connected = new();

    protected override Task<ConnectedSource> OpenAsync() => Task.FromResult<ConnectedSource>(connected);

    [Fact]
    public async Task Another_server_goes_on_after_what_a_token_names_at_a_place_of_its_own()
    {
        var begin = await connected.Source.Log.BeginLogAsync(Stop);
        await using var reader = await ReaderAsync(begin.Position);
        await connected.ChangeAsync(ItemChange.Insert(1, "a"));
        await connected.ChangeAsync(ItemChange.Insert(2, "b"));
        var read = await ReadAsync(reader, 2);
        var old = (await connected.Source.Log.SampleAsync(begin.Position, Stop)).Identity;
        connected.Database.Promote();
        await connected.ChangeAsync(ItemChange.Insert(3, "c"));

        var next = Assert.IsType<LogContinuity.NewBranch>(
            await connected.Source.Log.ContinueAsync(new ResumeToken(old, read[0].Token!), Stop)
        );
        Assert.NotEqual(old, next.Identity);
        Assert.NotEqual(read[0].Position.Offset, next.Begin);
        await using var on = await ReaderAsync(new LogPosition(1, next.Begin));
        Assert.Equal(["+2 b", "+3 c"], (await ReadAsync(on, 2)).Select(Shown));

        // Its own token leads on from there; a place of the old server alone leads nowhere.
        Assert.IsType<LogContinuity.Same>(await connected.Source.Log.ContinueAsync(new ResumeToken(next.Identity, next.Token!), Stop));
        Assert.IsType<LogContinuity.Lost>(await connected.Source.Log.ContinueAsync(new ResumeToken(old, "log.000001:104"), Stop));
        connected.Database.Promote();
        Assert.IsType<LogContinuity.NewBranch>(await connected.Source.Log.ContinueAsync(new ResumeToken(next.Identity, next.Token!), Stop));
    }

    private sealed class Connected : ConnectedSource
    {
        private static readonly TableSchema OtherTable = SinkSamples.Item with { Name = new TableName("made", "other") };
        private readonly FileLogConnector connector;

        public Connected() => connector = new FileLogConnector(Database, TimeProvider.System);

        public FileLogDatabase Database { get; } = new([SinkSamples.Item, OtherTable]);

        public override SourceSystem Source => new("files", connector);

        public override TableName Item => SinkSamples.Item.Name;

        public override Task ChangeAsync(params ItemChange[] changes)
        {
            var made = new List<RowChange>();
            foreach (var change in changes)
            {
                if (Made(change, Before(change, made)) is { } one)
                {
                    made.Add(one);
                }
            }

            Database.Commit(DateTimeOffset.UtcNow, made);
            return Task.CompletedTask;
        }

        public override Task<IReadOnlyList<string>> RowsAsync() =>
            Task.FromResult<IReadOnlyList<string>>([.. Database.RowsOf(Item).Select(row => $"{row.DisplayAt(0)}={row.DisplayAt(1)}")]);

        public override ValueTask DisposeAsync() => connector.DisposeAsync();

        /// <summary>The row as it is within the transaction.</summary>
        private Row Before(ItemChange change, List<RowChange> made)
        {
            var relation = change.IsOther ? 1 : 0;
            var last = made.FindLast(one =>
                one.Relation == relation && (one.After.IsNone ? one.Before : one.After).IntegerAt(0) == change.Id
            );
            return last.Kind == default && last.After.IsNone && last.Before.IsNone
                ? Database.Find(Database.Tables[relation].Name, change.Id)
                : last.After;
        }

        private static RowChange? Made(ItemChange change, Row before) =>
            change.Kind switch
            {
                ChangeKind.Insert => new RowChange(
                    ChangeKind.Insert,
                    change.IsOther ? 1 : 0,
                    default,
                    SinkSamples.Row(change.Id, change.V ?? "")
                ),
                _ when before.IsNone => null,
                ChangeKind.Update => new RowChange(ChangeKind.Update, 0, before, SinkSamples.Row(change.Id, change.V!)),
                _ => new RowChange(ChangeKind.Delete, 0, before, default),
            };
    }
}
