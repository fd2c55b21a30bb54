using Vestige.Core.Crossings;
using Vestige.Core.Headlines;
using Vestige.Core.Lag;
using Xunit;

namespace Vestige.Core.Tests.Headlines;

/// <summary>The headline of a crossing: each word alone, every pair of conditions, and random sets of them.</summary>
public sealed class HeadlineRuleTests(ITestOutputHelper output)
{
    private static readonly DateTimeOffset Now = new(2026, 11, 30, 12, 0, 0, TimeSpan.Zero);
    private static readonly LagReading Current = new(TimeSpan.Zero, Current: true, AtLeast: false);
    private static readonly LagReading Late = new(TimeSpan.FromSeconds(40), Current: false, AtLeast: false);
    private static readonly TroubledTables Two = new(["s.a", "s.b"], Now.AddMinutes(-5), 7);

    /// <summary>What makes each word hold, and keeps every other from holding where it is alone.</summary>
    private static readonly IReadOnlyDictionary<HeadlineWord, Func<CrossingFacts, CrossingFacts>> Conditions = new Dictionary<
        HeadlineWord,
        Func<CrossingFacts, CrossingFacts>
    >
    {
        [HeadlineWord.Faulted] = facts => facts with { State = CrossingState.Faulted, Fault = new Trouble("A row was refused.") },
        [HeadlineWord.PlaceLost] = facts => facts with { PlaceLost = new Trouble("The slot was dropped.", "Reload the tables.") },
        [HeadlineWord.SourceWritesFail] = facts => facts with { SourceWritesFail = Two },
        [HeadlineWord.LogAtRisk] = facts => facts with { LogLostIn = TimeSpan.FromMinutes(20) },
        [HeadlineWord.Waiting] = facts => facts with { Waiting = new Trouble("Connection refused."), NextAttempt = Now.AddSeconds(8) },
        [HeadlineWord.StorageFull] = facts => facts with { StorageFull = new Trouble("The spool is full.") },
        [HeadlineWord.Held] = facts => facts with { Held = Two },
        [HeadlineWord.Quarantine] = facts => facts with { Quarantined = Two },
        [HeadlineWord.Differs] = facts => facts with { Differing = Two },
        [HeadlineWord.Paused] = facts => facts with { State = CrossingState.Paused },
        [HeadlineWord.Stopped] = facts => facts with { State = CrossingState.Stopped },
        [HeadlineWord.Checking] = facts => facts with { State = CrossingState.Checking, Lag = null },
        [HeadlineWord.Loading] = facts => facts with { State = CrossingState.Loading, Lag = null, Loaded = 0.5 },
        [HeadlineWord.CatchingUp] = facts => facts with { State = CrossingState.CatchingUp, Lag = Late, Backlog = 900 },
        [HeadlineWord.Limited] = facts => facts with { LimitedBy = "Limited to 5 changes a second." },
        [HeadlineWord.Behind] = facts => facts with { Lag = Late, Backlog = 900 },
        [HeadlineWord.Following] = facts => facts,
        [HeadlineWord.Finished] = facts => facts with { State = CrossingState.Finished },
        [HeadlineWord.Draft] = facts => facts with { State = CrossingState.Draft, Lag = null },
    };

    /// <summary>Words that say what it does: of two of these, the one that was said last of it holds.</summary>
    private static readonly IReadOnlySet<HeadlineWord> States = new HashSet<HeadlineWord>
    {
        HeadlineWord.Faulted,
        HeadlineWord.Paused,
        HeadlineWord.Stopped,
        HeadlineWord.Checking,
        HeadlineWord.Loading,
        HeadlineWord.CatchingUp,
        HeadlineWord.Finished,
        HeadlineWord.Draft,
    };

    private static CrossingFacts Quiet =>
        new()
        {
            State = CrossingState.Following,
            Since = Now.AddHours(-1),
            Now = Now,
            By = "ada",
            Tables = 12,
            Lag = Current,
        };

    public static TheoryData<HeadlineWord> Words => [.. Enum.GetValues<HeadlineWord>()];

    public static TheoryData<HeadlineWord, HeadlineWord> Pairs =>
        new(
            from one in Enum.GetValues<HeadlineWord>()
            from other in Enum.GetValues<HeadlineWord>()
            where one < other && !(States.Contains(one) && States.Contains(other))
            select (one, other)
        );

    [Theory]
    [MemberData(nameof(Words))]
    public void Each_word_alone(HeadlineWord word)
    {
        var headline = HeadlineRule.Of(Conditions[word](Quiet));
        Assert.Equal(word, headline.Word);
        Assert.Equal(word <= HeadlineWord.Differs, headline.NeedsAttention);
        Holds(headline);
    }

    /// <summary>The worse is the headline, in whichever order they came; the other is said where it still is so.</summary>
    [Theory]
    [MemberData(nameof(Pairs))]
    public void Of_two_the_worse(HeadlineWord worse, HeadlineWord other)
    {
        foreach (
            var facts in new[] { Conditions[other](Conditions[worse](Quiet)), Conditions[worse](Conditions[other](Quiet)) }.Where(facts =>
                Still(facts, worse) && Still(facts, other)
            )
        )
        {
            var headline = HeadlineRule.Of(facts);
            Assert.Equal(Expected(facts), headline.Word);
            Holds(headline);
        }
    }

    [Theory]
    [InlineData(null, "Preparing the target's tables.")]
    [InlineData(0.0, "0 % of the rows are loaded.")]
    [InlineData(0.999, "99 % of the rows are loaded.")]
    [InlineData(1.0, "All rows are loaded; building keys and indexes.")]
    public void A_load_names_its_phase(double? share, string sentence) =>
        Assert.Equal(
            sentence,
            HeadlineRule.Of(Quiet with { State = CrossingState.Loading, Lag = null, Loaded = share }).Sentence
        );

    /// <summary>It says what the others do, and what the load does for them.</summary>
    [Fact]
    public void A_load_beside_tables_that_follow_says_what_becomes_of_those()
    {
        var facts = Quiet with { Tables = 10, LoadingBeside = 1, Loaded = 0.42 };
        var headline = HeadlineRule.Of(facts);
        Assert.Equal(HeadlineWord.Loading, headline.Word);
        Assert.Equal("1 table: 42 % of the rows are loaded. The other 9 tables follow. Nothing waits.", headline.Sentence);
        Assert.Single(headline.Reasons);
        Assert.Contains(
            "The load has waited 12 s for them.",
            HeadlineRule.Of(facts with { LoadSlowed = TimeSpan.FromSeconds(12) }).Sentence,
            StringComparison.Ordinal
        );
        var late = HeadlineRule.Of(facts with { State = CrossingState.CatchingUp, Lag = null });
        Assert.Equal([HeadlineWord.Loading, HeadlineWord.CatchingUp], late.Reasons.Select(reason => reason.Word));
    }

    [Fact]
    public void Of_any_set_the_worst_and_nothing_good_beside_it()
    {
        var seed = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_SEED") ?? $"{Random.Shared.Next(1_000_000)}");
        output.WriteLine($"seed {seed}");
        var random = new Random(seed);
        for (var i = 0; i < 20_000; i++)
        {
            var facts = Quiet;
            foreach (var word in random.GetItems(Enum.GetValues<HeadlineWord>(), random.Next(6)))
            {
                facts = Conditions[word](facts);
            }

            var headline = HeadlineRule.Of(facts);
            Assert.Equal(Expected(facts), headline.Word);
            Holds(headline);
        }
    }

    [Theory]
    [InlineData(true, false, "Everything else is applied.")]
    [InlineData(false, true, "Everything else is applied.")]
    [InlineData(false, false, "Nothing waits.")]
    public void Nothing_waits_only_where_nothing_does(bool held, bool quarantined, string said)
    {
        var facts = Quiet with { Held = held ? Two : null, Quarantined = quarantined ? Two : null };
        Assert.Equal(said, HeadlineRule.Of(facts).Reasons[^1].Sentence);
    }

    [Fact]
    public void What_is_late_without_a_change_that_waits_counts_no_changes()
    {
        var facts = Quiet with { Lag = new LagReading(TimeSpan.FromSeconds(0.9), Current: false, AtLeast: true) };
        Assert.Equal("At least 0.9 s behind.", HeadlineRule.Of(facts).Sentence);
    }

    [Fact]
    public void A_backlog_that_never_clears_is_behind_and_one_kept_by_a_limit_is_limited()
    {
        var facts = Conditions[HeadlineWord.CatchingUp](Quiet) with { LosesGround = true };
        Assert.Equal(HeadlineWord.Behind, HeadlineRule.Of(facts).Word);
        Assert.Equal(HeadlineWord.Limited, HeadlineRule.Of(facts with { LimitedBy = "Limited to 5 changes a second." }).Word);
    }

    private static bool Still(CrossingFacts facts, HeadlineWord word) =>
        !States.Contains(word) || Conditions[word](facts).State == facts.State;

    /// <summary>By the table of the order alone: what of a state is not hidden by what keeps it from working.</summary>
    private static HeadlineWord Expected(CrossingFacts facts) =>
        facts switch
        {
            { Fault: not null } => HeadlineWord.Faulted,
            { State: CrossingState.Faulted, PlaceLost: null, Waiting: null } => HeadlineWord.Faulted,
            { PlaceLost: not null } => HeadlineWord.PlaceLost,
            { SourceWritesFail: not null } => HeadlineWord.SourceWritesFail,
            { LogLostIn: not null } => HeadlineWord.LogAtRisk,
            { Waiting: not null } => HeadlineWord.Waiting,
            { StorageFull: not null } => HeadlineWord.StorageFull,
            { Held: not null } => HeadlineWord.Held,
            { Quarantined: not null } => HeadlineWord.Quarantine,
            { Differing: not null } => HeadlineWord.Differs,
            { State: CrossingState.Paused } => HeadlineWord.Paused,
            { State: CrossingState.Stopped } => HeadlineWord.Stopped,
            { State: CrossingState.Checking } => HeadlineWord.Checking,
            { State: CrossingState.Loading } => HeadlineWord.Loading,
            { State: CrossingState.Finished } => HeadlineWord.Finished,
            { State: CrossingState.Draft } => HeadlineWord.Draft,
            { LimitedBy: not null } => HeadlineWord.Limited,
            { State: CrossingState.CatchingUp } => HeadlineWord.CatchingUp,
            { Lag.Current: false } => HeadlineWord.Behind,
            _ => HeadlineWord.Following,
        };

    private static void Holds(Headline headline)
    {
        var words = headline.Reasons.Select(reason => reason.Word).ToList();
        Assert.Equal(words.Distinct().Order(), words);
        Assert.All(headline.Reasons, reason => Assert.EndsWith(".", reason.Sentence, StringComparison.Ordinal));
        if (headline.Word is HeadlineWord.Faulted or HeadlineWord.PlaceLost or HeadlineWord.Waiting)
        {
            Assert.DoesNotContain(HeadlineWord.Following, words);
            Assert.DoesNotContain(HeadlineWord.CatchingUp, words);
        }

        Assert.True(words.Count(word => word >= HeadlineWord.Paused) <= 1);
        if (words.Exists(word => word < HeadlineWord.Paused))
        {
            Assert.DoesNotContain(headline.Reasons, reason =>
                reason.Sentence.Contains("Nothing waits", StringComparison.Ordinal)
                && words[0] is HeadlineWord.Held or HeadlineWord.Quarantine
            );
        }
    }
}
