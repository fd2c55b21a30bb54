using CsCheck;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Tests.Doubles;
using Vestige.Engine.Tests.Simulation;
using Xunit;

namespace Vestige.Engine.Tests.Reconciling;

/// <summary>
/// The descent into segments against a plain comparison of everything with everything, between databases of one engine and of two.
/// </summary>
public class TableComparerTests
{
    private static readonly Gen<(
        Dictionary<long, int> Here,
        Dictionary<long, int> There,
        int Listed,
        bool Treated,
        bool CrossEngine
    )> World = Gen.Select(
        Gen.Select(Gen.Long[-300, 300], Gen.Int[0, 3]).Array[0, 250],
        Gen.Select(Gen.Int[0, 400], Gen.Int[0, 4], Gen.Long[-300, 300]).Array[0, 12],
        Gen.Int[1, 40],
        Gen.Bool,
        Gen.Bool,
        (rows, damages, listed, treated, unlike) =>
        {
            var here = new Dictionary<long, int>();
            foreach (var (key, value) in rows)
            {
                here[key] = value;
            }

            var there = new Dictionary<long, int>(here);
            foreach (var (place, how, other) in damages.Where(_ => there.Count > 0))
            {
                var key = there.Keys.ElementAt(place % there.Count);
                if (how == 0)
                {
                    there.Remove(key);
                }
                else if (how == 1)
                {
                    there[other] = 9;
                }
                else
                {
                    there[key] = (there[key] + how) % 5;
                }
            }

            return (here, there, listed, treated, unlike);
        }
    );

    [Fact]
    public void What_is_found_is_what_a_plain_comparison_finds() =>
        World.Sample(
            world =>
            {
                var (here, there, listed, treated, unlike) = world;
                var definition = new CrossingDefinition(
                    "c",
                    CrossingDefinition.Copy,
                    "a",
                    "b",
                    new TableRules([new TableRule(Take: "*")]),
                    Treatment: treated ? [new TreatmentStep("*", Keep: "value <> 'v0'")] : null
                );
                var treatment = TreatmentBuilder
                    .Build(
                        definition,
                        SimRows.First,
                        name => name,
                        PlainTypes.Instance,
                        new PlainKeys(),
                        unlike ? PlainTexts.Instance : null
                    )
                    .Treatment!;
                var shown = here.Where(pair => !treated || pair.Value != 0).ToDictionary();
                var tables = ComparedTable.Of(treatment, PlainTypes.Instance, unlike ? PlainTexts.Instance : PlainTypes.Instance);
                var comparer = new TableComparer(
                    treatment,
                    tables,
                    ViewOf(here),
                    ViewOf(there, unlike),
                    [],
                    new LogPosition(1),
                    TimeProvider.System,
                    listed
                )
                {
                    SegmentsReported = 1 + (listed % 5),
                };
                var found = comparer.RunAsync(KeySpan.All, 10_000, CancellationToken.None).GetAwaiter().GetResult().Single();
                var (missing, extra) = (shown.Keys.Except(there.Keys).ToHashSet(), there.Keys.Except(shown.Keys).ToHashSet());
                var differing = shown.Keys.Intersect(there.Keys).Where(key => shown[key] != there[key]).ToHashSet();
                Assert.Equal((shown.Count, there.Count), (found.SourceRows, found.TargetRows));
                var all = missing.Count + extra.Count + differing.Count;
                Assert.Equal(all == 0, found.IsEqual);
                Assert.Equal(all == 0, found.Segments.All(segment => segment.State == SegmentState.Equal));
                Assert.True(found.Rows.Count <= listed || all <= listed);
                Assert.Equal(all > found.Rows.Count, found.NotListed);
                Assert.Subset(missing, Keys(found, DifferenceKind.Missing));
                Assert.Subset(extra, Keys(found, DifferenceKind.Extra));
                Assert.Subset(differing, Keys(found, DifferenceKind.Differing));
                if (!found.NotListed)
                {
                    Assert.Equal((missing.Count, extra.Count, differing.Count), (found.Missing, found.Extra, found.Differing));
                    Assert.Equal(shown.Count - missing.Count - differing.Count, found.Same);
                }

                Assert.InRange(found.Segments.Count, 1, 1 + (listed % 5));
                Assert.All(found.Rows, row =>
                {
                    var (segment, key) = (found.Segments[row.Segment!.Value], Number(row.Key));
                    Assert.Equal(unlike ? key : 0, row.SourceKey.IsNone ? 0 : row.SourceKey.IntegerAt(0));
                    Assert.NotEqual(SegmentState.Equal, segment.State);
                    Assert.True(
                        found.ByHash
                            || (
                                (segment.From is null || long.Parse(segment.From) <= key)
                                && (segment.Before is null || key < long.Parse(segment.Before))
                            )
                    );
                });
                Assert.All(found.Rows.Where(row => row.Kind == DifferenceKind.Differing), row => Assert.Equal(["value"], row.Columns));
            },
            iter: 2000
        );

    /// <summary>A digest of nothing is one of nothing: an empty table equals an empty one, and no other.</summary>
    [Fact]
    public async Task An_empty_table_is_compared_too()
    {
        var definition = new CrossingDefinition("c", CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "*")]));
        var treatment = TreatmentBuilder.Build(definition, SimRows.First, name => name, PlainTypes.Instance, new PlainKeys()).Treatment!;
        foreach (
            var there in new Dictionary<long, int>[]
            {
                new(),
                new() { [1] = 1 },
            }
        )
        {
            var comparer = new TableComparer(
                treatment,
                ComparedTable.Of(treatment, PlainTypes.Instance, PlainTypes.Instance),
                ViewOf([]),
                ViewOf(there),
                [],
                new LogPosition(1),
                TimeProvider.System,
                10
            );
            var found = (await comparer.RunAsync(KeySpan.All, 0, TestContext.Current.CancellationToken)).Single();
            Assert.Equal((there.Count == 0, 0, there.Count), (found.IsEqual, found.SourceRows, found.Extra));
        }
    }

    private static HashSet<long> Keys(TableFinding found, DifferenceKind kind) =>
        [.. found.Rows.Where(row => row.Kind == kind).Select(row => Number(row.Key))];

    private static long Number(Row key) => long.Parse(key.DisplayAt(0), System.Globalization.CultureInfo.InvariantCulture);

    private static SimView ViewOf(Dictionary<long, int> rows, bool asTexts = false) =>
        new(
            new LogPosition(1),
            TargetProgress.None,
            new Dictionary<TableName, IReadOnlyList<Row>>
            {
                [SimRows.First.Name] =
                [
                    .. rows.Select(pair =>
                        asTexts ? SimRows.AsTexts(SimRows.Of(pair.Key, $"v{pair.Value}")) : SimRows.Of(pair.Key, $"v{pair.Value}")
                    ),
                ],
            },
            null
        );
}
