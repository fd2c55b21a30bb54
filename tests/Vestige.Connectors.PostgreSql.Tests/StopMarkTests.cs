using System.Globalization;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Stop marks while the server's own benchmark writes. Its transactions (TPC-B, as the manual of pgbench describes them) keep four
/// sums equal; what the target must hold at the mark is replayed by the server's own decoder of its log.
/// </summary>
public sealed class StopMarkTests(TwoServers servers)
{
    private const string Sums =
        "SELECT (SELECT sum(abalance) FROM pgbench_accounts) || ' ' || (SELECT sum(tbalance) FROM pgbench_tellers) || ' ' || (SELECT "
        + "sum(bbalance) FROM pgbench_branches) || ' ' || (SELECT coalesce(sum(delta), 0) FROM pgbench_history)";

    [Fact]
    public async Task Under_load_the_target_rests_in_exactly_the_state_at_the_mark()
    {
        var cancellation = TestContext.Current.CancellationToken;
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.Cluster.ProgramAsync("pgbench", "-i", "-q", "-s", "1", a.Name);
        var slot = "replay_" + a.Name;
        await a.AskAsync($"SELECT pg_create_logical_replication_slot('{slot}', 'test_decoding')");
        var definition = new CrossingDefinition(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.pgbench_*")]),
            Apply: [new ApplyRule("*_history", ApplyMode.InsertOnly)]
        );
        await using var crossing = await Crossing.StartAsync(a, b, definition);
        await crossing.FollowsAsync();
        var load = a.Cluster.ProgramAsync("pgbench", "-c", "4", "-T", "8", "-n", "-R", "400", a.Name);
        await crossing.UntilAsync(
            () => a.AskAsync("SELECT count(*)::text FROM pgbench_history").GetAwaiter().GetResult() != "0",
            "the load"
        );
        for (var round = 0; round < 3; round++)
        {
            await Task.Delay(700, cancellation);
            StopMark? mark = round switch
            {
                0 => null,
                1 => new StopMark(new LogPosition(await AheadAsync(a))),
                _ => new StopMark(Time: DateTimeOffset.UtcNow.AddSeconds(0.7)),
            };
            await crossing.Engine.StopAtAsync(Crossing.Name, mark, "test", cancellation);
            await crossing.UntilAsync(() => crossing.Status.State == CrossingState.Stopped, "the stop");
            await AgreesAsync(a, b, slot, mark ?? new StopMark(crossing.Status.AppliedPosition));
            await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        }

        await load;
        await crossing.SameAsync("pgbench_accounts", "pgbench_tellers", "pgbench_branches", "pgbench_history");
        await a.AskAsync($"SELECT pg_drop_replication_slot('{slot}')");
    }

    /// <summary>A position that the log has yet to come to.</summary>
    private static async Task<ulong> AheadAsync(Database a) =>
        ulong.Parse(await a.AskAsync("SELECT pg_current_wal_insert_lsn() - '0/0'::pg_lsn + 100000"), CultureInfo.InvariantCulture);

    private static async Task AgreesAsync(Database a, Database b, string slot, StopMark mark)
    {
        var sums = (await b.AskAsync(Sums)).Split(' ');
        Assert.All(sums, sum => Assert.Equal(sums[0], sum));

        // Rows of the history up to the mark: by position the decoder ends by itself, by time the commit's own stamp says.
        var upTo = mark.Position is { } position ? $"'{Lsn.Format(position)}'" : "NULL";
        var options = mark.Time is null ? "" : ", 'include-timestamp', 'on'";
        var text = await a.AskAsync(
            $"SELECT coalesce(string_agg(data, E'\\n'), '') FROM pg_logical_slot_peek_changes('{slot}', {upTo}, NULL, "
                + $"'skip-empty-xacts', 'on'{options})"
        );
        var (rows, sum) = Replay(text, mark.Time);
        Assert.True(rows > 0);
        Assert.Equal($"{rows} {sum}", await b.AskAsync("SELECT count(*) || ' ' || coalesce(sum(delta), 0) FROM pgbench_history"));
    }

    private static (int Rows, long Sum) Replay(string text, DateTimeOffset? until)
    {
        var (rows, sum, inside) = (0, 0L, new List<long>());
        foreach (var line in text.Split('\n'))
        {
            if (line.StartsWith("BEGIN", StringComparison.Ordinal))
            {
                inside.Clear();
            }
            else if (line.Contains("pgbench_history: INSERT", StringComparison.Ordinal))
            {
                var from = line.IndexOf("delta[integer]:", StringComparison.Ordinal) + "delta[integer]:".Length;
                inside.Add(long.Parse(line[from..line.IndexOf(' ', from)], CultureInfo.InvariantCulture));
            }
            else if (line.StartsWith("COMMIT", StringComparison.Ordinal))
            {
                if (
                    until is { } end
                    && DateTimeOffset.Parse(
                        line[(line.IndexOf("(at ", StringComparison.Ordinal) + 4)..^1],
                        CultureInfo.InvariantCulture,
                        DateTimeStyles.AssumeUniversal
                    ) > end
                )
                {
                    break;
                }

                (rows, sum) = (rows + inside.Count, sum + inside.Sum());
            }
        }

        return (rows, sum);
    }
}
