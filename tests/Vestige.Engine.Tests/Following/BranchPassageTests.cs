using Vestige.Core.Joining;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Following;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Tests.Doubles;
using Xunit;

namespace Vestige.Engine.Tests.Following;

/// <summary>
/// What becomes of each table as a crossing goes from the log <c>scripted/1</c>, which ended at 3, to <c>scripted/2</c>, which began at
/// 100.
/// </summary>
public sealed class BranchPassageTests : IAsyncLifetime
{
    private static readonly LogIdentity Old = new("scripted", 1);
    private static readonly LogIdentity New = new("scripted", 2);
    private static readonly LogIdentity Unknown = new("another", 1);
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private Spool spool = null!;

    public async ValueTask InitializeAsync()
    {
        spool = await Spool.OpenAsync(new MemoryFiles(), new PlainCipher(), new SpoolOptions(), TimeProvider.System, cancellation);
        await spool.StartAsync(Old, LogPosition.Zero, cancellation);
        await spool.AppendAsync(ScriptedSource.Read(ScriptedSource.Fragment(3)), DateTimeOffset.UnixEpoch, cancellation);
        await spool.SyncAsync(cancellation);
        await spool.SealAsync(new JoinPoint(Old, 3, New, 100, JoinEvidence.Complete(JoinKind.Derived)), cancellation);
        await spool.BeginBranchAsync(cancellation);
    }

    public ValueTask DisposeAsync() => spool.DisposeAsync();

    [Fact]
    public async Task A_table_that_was_loaded_from_beyond_the_end_is_loaded_again()
    {
        var session = At(3, Loaded("within", 2), Loaded("ahead", 5), Loaded("held", 5) with { HeldCause = "of the test" });
        Assert.Equal(New, (await BranchPassage.PassAsync(session, spool, loads: true, cancellation)).Identity);
        Assert.Equal((New, new LogPosition(1, 100)), (session.Progress.Identity, session.Progress.Position));
        Assert.Equal((true, Old, new LogPosition(2)), Of(session, "within"));
        Assert.Equal((false, null, LogPosition.Zero), Of(session, "ahead"));
        Assert.Equal("of the test", session.Progress.Tables.Single(table => table.Table.Name == "held").HeldCause);
    }

    [Fact]
    public async Task Where_nothing_can_be_loaded_the_crossing_does_not_pass()
    {
        var session = At(3, Loaded("ahead", 5));
        var refusal = await Assert.ThrowsAsync<PlaceLostException>(() =>
            BranchPassage.PassAsync(session, spool, loads: false, cancellation)
        );
        Assert.StartsWith("sim.ahead was taken as of a position", refusal.Message, StringComparison.Ordinal);
        Assert.Equal((0, new LogPosition(3)), (session.Commits, session.Progress.Position));
    }

    [Fact]
    public async Task Before_the_first_load_has_ended_such_a_table_is_loaded_again_whatever_the_source_is_now()
    {
        var session = At(null, Loaded("within", 2), Loaded("ahead", 5));
        Assert.True(await ContinueAsync(session, loads: true));
        Assert.Equal((true, Old, new LogPosition(2)), Of(session, "within"));
        Assert.Equal((false, null, LogPosition.Zero), Of(session, "ahead"));
        Assert.False(await ContinueAsync(session, loads: true));
    }

    [Fact]
    public async Task Nothing_is_loaded_again_where_rows_are_brought_by_other_means() =>
        await AssertLeftAloneAsync(At(null, Loaded("ahead", 5)), loads: false);

    [Fact]
    public async Task Nothing_is_loaded_again_for_a_log_of_which_nobody_knows_anything() =>
        await AssertLeftAloneAsync(At(null, Loaded("within", 2), Loaded("strange", 2) with { Log = Unknown }), loads: true);

    /// <summary>
    /// The spool went from the old log to the new one at once, and the target to one between them that the spool never read. What the
    /// target lacks lies before the beginning of the new log as the spool has it, at a place that nobody can tell.
    /// </summary>
    [Theory]
    [InlineData(99, false)]
    [InlineData(100, true)]
    [InlineData(107, true)]
    public async Task A_target_on_a_log_between_them_is_taken_over_only_where_the_spool_has_all_that_it_lacks(ulong goesOnAt, bool taken)
    {
        var session = new ProgressSession(new TargetProgress(Unknown, new LogPosition(7), []));
        session.Match(spool.Branches);
        var source = new ScriptedSource { Continuity = new LogContinuity.NewBranch(New, goesOnAt) };
        Assert.Equal(taken, await BranchPassage.ContinueAsync(session, spool, source, loads: true, cancellation));
        Assert.Equal(
            taken ? (New, new LogPosition(1, goesOnAt)) : (Unknown, new LogPosition(LogPosition.BeforeAll, 7)),
            (session.Progress.Identity!, session.Progress.Position!.Value)
        );
    }

    private async Task AssertLeftAloneAsync(ProgressSession session, bool loads)
    {
        Assert.False(await ContinueAsync(session, loads));
        Assert.Equal(0, session.Commits);
    }

    private Task<bool> ContinueAsync(ProgressSession session, bool loads) =>
        BranchPassage.ContinueAsync(session, spool, new ScriptedSource(), loads, cancellation);

    private ProgressSession At(long? position, params TableProgress[] tables)
    {
        var session = new ProgressSession(new TargetProgress(Old, position is { } at ? new LogPosition((ulong)at) : null, tables));
        session.Match(spool.Branches);
        return session;
    }

    private static TableProgress Loaded(string name, ulong position) =>
        new(new TableName("sim", name), Loaded: true, new LogPosition(position)) { Log = Old };

    private static (bool Loaded, LogIdentity? Log, LogPosition Position) Of(ProgressSession session, string name)
    {
        var table = session.Progress.Tables.Single(table => table.Table.Name == name);
        return (table.Loaded, table.Log, table.Position);
    }
}
