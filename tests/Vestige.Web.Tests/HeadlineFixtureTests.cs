using Vestige.Core.Crossings;
using Vestige.Core.Forecasting;
using Vestige.Core.Headlines;
using Vestige.Core.Lag;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Alerting;
using Vestige.Engine.Capturing;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Workers;
using Vestige.Web.Api;
using Vestige.Web.Views;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>
/// One fixture of what can be true of a crossing drives the interface, the pages' sentences, symbols and figures, and the alerts: each
/// condition alone, every pair, and random sets.
/// </summary>
public sealed class HeadlineFixtureTests(ITestOutputHelper output)
{
    private static readonly DateTimeOffset Now = new(2026, 11, 30, 12, 0, 0, TimeSpan.Zero);

    /// <summary>What a condition makes of a quiet crossing, the word it is said by, and the kind of its alert; null for none.</summary>
    private sealed record Condition(HeadlineWord Word, Core.Alerts.NeedKind? Alert, Func<CrossingStatus, CrossingStatus> Set);

    private static readonly Condition[] Conditions =
    [
        new(
            HeadlineWord.Faulted,
            Core.Alerts.NeedKind.Faulted,
            status =>
                status with
                {
                    State = CrossingState.Faulted,
                    Fault = new CrossingFault("A row was refused.", "Remove the cause.", Now),
                }
        ),
        new(
            HeadlineWord.PlaceLost,
            Core.Alerts.NeedKind.LogLoss,
            status => status with { Capture = status.Capture! with { LostPlace = true, Running = false } }
        ),
        new(
            HeadlineWord.SourceWritesFail,
            Core.Alerts.NeedKind.SourceWritesFail,
            status => With(status, 0, table => table with { State = TableState.Held, Cause = $"no identity: {SchemaNotice.WritesFail}" })
        ),
        new(
            HeadlineWord.LogAtRisk,
            Core.Alerts.NeedKind.LogLoss,
            status =>
                status with
                {
                    Exhaustion = new LogExhaustion(ForecastTime.Never, new ForecastTime(TimeSpan.FromMinutes(20), null, null)),
                }
        ),
        new(
            HeadlineWord.Waiting,
            Core.Alerts.NeedKind.Waiting,
            status => status with { Waiting = new CrossingFault("Connection refused.", null, Now.AddMinutes(-1)) }
        ),
        new(
            HeadlineWord.Held,
            Core.Alerts.NeedKind.Held,
            status => With(status, 1, table => table with { State = TableState.Held, Cause = "a column was added" })
        ),
        new(
            HeadlineWord.Quarantine,
            Core.Alerts.NeedKind.Quarantine,
            status => With(status, 2, table => table with { Quarantined = 3 }) with { KeptSince = Now.AddMinutes(-9) }
        ),
        new(
            HeadlineWord.Differs,
            Core.Alerts.NeedKind.Differing,
            status => With(status, 3, table => table with { Verdict = new Verdict(table.Source, null, 4) })
        ),
        new(HeadlineWord.Paused, null, status => status with { State = CrossingState.Paused }),
        new(HeadlineWord.Limited, null, status => status with { Resting = "Limited to 5 changes a second." }),
    ];

    public static TheoryData<int> Each => [.. Enumerable.Range(0, Conditions.Length)];

    public static TheoryData<int, int> Pairs =>
        new(
            from one in Enumerable.Range(0, Conditions.Length)
            from other in Enumerable.Range(0, Conditions.Length)
            where one < other
            select (one, other)
        );

    [Fact]
    public void A_quiet_crossing_follows_everywhere() => SaidAlike([], Quiet);

    [Theory]
    [MemberData(nameof(Each))]
    public void Each_condition_is_said_alike(int one) => SaidAlike([Conditions[one]], Conditions[one].Set(Quiet));

    [Theory]
    [MemberData(nameof(Pairs))]
    public void Of_two_the_worse_is_said_everywhere(int one, int other) =>
        SaidAlike([Conditions[one], Conditions[other]], Conditions[other].Set(Conditions[one].Set(Quiet)));

    [Fact]
    public void Of_any_set_the_worst_is_said_everywhere()
    {
        var seed = Random.Shared.Next();
        output.WriteLine($"seed {seed}");
        var random = new Random(seed);
        for (var i = 0; i < 300; i++)
        {
            Condition[] set = [.. Conditions.Where(_ => random.Next(3) == 0)];
            SaidAlike(set, set.Aggregate(Quiet, (status, condition) => condition.Set(status)));
        }
    }

    private static void SaidAlike(IReadOnlyCollection<Condition> set, CrossingStatus status)
    {
        var worst = set.Count == 0 ? HeadlineWord.Following : set.Min(condition => condition.Word);
        var why = $"{string.Join(", ", set.Select(condition => condition.Word))}: {Sentences.Crossing(status)}";

        // The interface, by which the metrics go as well.
        var document = StatusView.Of(status, position => $"{position.Offset}");
        Assert.True(document.Headline.Word == worst.Text(), why);
        Assert.True(document.Reasons[0].Kind == worst.Text(), why);
        var lost = set.Any(condition => condition.Word == HeadlineWord.PlaceLost);
        foreach (var condition in set.Where(one => one.Word <= HeadlineWord.Differs && !(lost && one.Word == HeadlineWord.LogAtRisk)))
        {
            Assert.True(document.Reasons.Any(reason => reason.Kind == condition.Word.Text()), why);
        }

        // The pages: the sentence of the crossing, that of the fleet, the figure beside it, and the symbol.
        var sentence = Sentences.Crossing(status);
        Assert.True(sentence.StartsWith(worst.Text(), StringComparison.OrdinalIgnoreCase), why);
        Assert.True(worst > HeadlineWord.Differs || !sentence.Contains("Nothing waits", StringComparison.Ordinal), why);
        Assert.Contains($"aria-label=\"{worst.Text()}\"", Draw.State(worst).ToString() ?? "", StringComparison.Ordinal);
        if (set.Any(condition => condition.Word == HeadlineWord.Quarantine))
        {
            Assert.True(document.Lag!.Seconds >= 540 && !document.Lag.Current, why);
            Assert.Equal("9.0 min", Sentences.Behind(status));
        }

        // The alerts: each condition that has one raises it, whatever else is true; nothing else is raised.
        var alerts = NeedReader.Of(status, Now).Select(need => need.Kind).ToHashSet();
        foreach (var condition in set.Where(condition => condition.Alert is not null))
        {
            var isHidden = condition.Word == HeadlineWord.Waiting
                && set.Any(other => other.Word is HeadlineWord.Faulted or HeadlineWord.PlaceLost);
            Assert.True(isHidden || alerts.Contains(condition.Alert!.Value), $"{why}: no alert {condition.Alert}");
        }

        Assert.True(set.Count > 0 || alerts.Count == 0, why);
    }

    private static CrossingStatus Quiet { get; } =
        new()
        {
            Definition = new CrossingDefinition("copy", CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.*")])),
            At = Now,
            State = CrossingState.Following,
            Since = Now.AddHours(-1),
            By = "ada",
            Lag = new LagReading(TimeSpan.Zero, Current: true, AtLeast: false),
            AppliedPosition = new LogPosition(0, 700),
            AtWork = true,
            Clears = new ClearingForecast(Clearing.Current, null, null, null, 0, null, RateRange.Zero),
            Exhaustion = LogExhaustion.None,
            PastForecasts = new ForecastQualities(null, null, null, null),
            Capture = new CaptureStatus
            {
                Connection = "a",
                Running = true,
                SampledAt = Now,
                ProvenAt = Now,
                SpoolBudget = 1 << 30,
                LogGrowth = RateRange.Zero,
                SpoolGrowth = RateRange.Zero,
            },
            Tables = [.. Enumerable.Range(0, 5).Select(i => Table(new TableName("a", $"t{i}")))],
        };

    private static TableStatus Table(TableName name) =>
        new(name, [name], TableState.Following, null, 10, null, 0, TimeSpan.Zero, null, TableTally.None);

    private static CrossingStatus With(CrossingStatus status, int place, Func<TableStatus, TableStatus> change) =>
        status with
        {
            Tables = [.. status.Tables.Select((table, i) => i == place ? change(table) : table)],
        };
}
