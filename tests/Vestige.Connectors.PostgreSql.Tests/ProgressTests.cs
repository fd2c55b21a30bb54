using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>What is kept of a crossing beside its rows.</summary>
public sealed class ProgressTests(TwoServers servers)
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <summary>The tables as versions wrote them that knew no branches and no tokens.</summary>
    [Fact]
    public async Task Tables_of_an_earlier_version_are_read_and_brought_up_to_date()
    {
        var database = await servers.B.MakeDatabaseAsync();
        await database.RunAsync(
            """
            CREATE SCHEMA vestige;
            CREATE TABLE vestige.progress (crossing text PRIMARY KEY, epoch bigint NOT NULL, server text, timeline bigint, position bigint);
            CREATE TABLE vestige.progress_table (
              crossing text NOT NULL REFERENCES vestige.progress ON DELETE CASCADE, schema text NOT NULL, name text NOT NULL,
              loaded boolean NOT NULL, position bigint NOT NULL, held_cause text, part text, into_tables text,
              settled boolean NOT NULL DEFAULT false, form text, PRIMARY KEY (crossing, schema, name));
            INSERT INTO vestige.progress VALUES ('c', 7, '7001', 1, 500);
            INSERT INTO vestige.progress_table VALUES ('c', 'public', 't', true, 400, NULL, NULL, 'public.t', true, NULL);
            """
        );
        await using var target = database.Target();
        var identity = new LogIdentity("7001", 1);
        var before = await target.ReadProgressAsync("c", cancellation);
        Assert.Equal((identity, new LogPosition(500), null), (before.Identity, before.Position, before.Token));
        Assert.Equal((new LogPosition(400), null), (before.Tables[0].Position, before.Tables[0].Log));
        await using (var session = await target.OpenSessionAsync("c", 8, cancellation))
        {
            // The log has been followed to another since: the spool's third branch.
            session.Match([new LogBranch(new("other", 1), 0, 90), new LogBranch(identity, 0, 600), new LogBranch(new("7002", 1), 20)]);
            Assert.Equal(new LogPosition(1, 500), session.Progress.Position);
            Assert.Equal(new LogPosition(1, 400), session.Progress.Tables[0].Position);
            await using var transaction = await session.BeginAsync(checkReferences: false, cancellation);
            var moved = session.Progress.Tables[0] with { Log = identity };
            await transaction.CommitAsync(
                new ProgressUpdate(new LogPosition(2, 30), [moved], new LogIdentity("7002", 1), Token: "words of the source"),
                cancellation
            );
            await (await session.BeginAsync(checkReferences: false, cancellation)).DisposeAsync();
        }

        var after = await target.ReadProgressAsync("c", cancellation);
        Assert.Equal(
            (new LogIdentity("7002", 1), new LogPosition(30), "words of the source"),
            (after.Identity, after.Position, after.Token)
        );
        Assert.Equal((new LogPosition(400), identity), (after.Tables[0].Position, after.Tables[0].Log));
    }

    /// <summary>The same offset of another log is another position.</summary>
    [Fact]
    public async Task A_position_moves_only_from_the_expected_log()
    {
        var database = await servers.B.MakeDatabaseAsync();
        await using var target = database.Target();
        await using var session = await target.OpenSessionAsync("c", 1, cancellation);
        await using (var transaction = await session.BeginAsync(checkReferences: false, cancellation))
        {
            await transaction.CommitAsync(new ProgressUpdate(new LogPosition(5), [], new LogIdentity("a", 1)), cancellation);
        }

        await database.RunAsync("UPDATE vestige.progress SET server = 'b'");
        await Assert.ThrowsAsync<FencedException>(() => session.BeginAsync(checkReferences: false, cancellation));
    }
}
