using System.Text.Json;
using CsCheck;
using Vestige.Core.Joining;
using Vestige.Core.Positions;
using Xunit;

namespace Vestige.Core.Tests;

public class PositionTests
{
    private static readonly LogIdentity First = new("a", 1);
    private static readonly LogIdentity Second = new("b", 1);

    /// <summary>The first log up to 100, the second up to 50, then the first again.</summary>
    private static readonly LogBranch[] Branches =
    [
        new(First, 10, 100),
        new(Second, 5, 50, JoinEvidence.Complete(JoinKind.Proved)),
        new(First, 120, OpenedBy: JoinEvidence.Complete(JoinKind.Derived)),
    ];

    [Fact]
    public void Positions_are_ordered_by_branch_then_offset() =>
        Gen.Select(Positions, Positions)
            .Sample(
                (left, right) =>
                {
                    var expected = (left.Branch, left.Offset).CompareTo((right.Branch, right.Offset));
                    Assert.Equal(Math.Sign(expected), Math.Sign(left.CompareTo(right)));
                    Assert.Equal(expected < 0, left < right);
                    Assert.Equal(expected <= 0, left <= right);
                }
            );

    [Fact]
    public void The_text_form_and_json_give_the_same_position_again() =>
        Positions.Sample(position =>
        {
            Assert.Equal(position, LogPosition.Parse(position.ToString()));
            Assert.Equal(position, JsonSerializer.Deserialize<LogPosition>(JsonSerializer.Serialize(position)));
        });

    /// <summary>As it was written before there were branches: in some places a number, in others an object.</summary>
    [Theory]
    [InlineData("17", "17")]
    [InlineData("""{"Place":17}""", "17")]
    [InlineData("\"2:17\"", "2:17")]
    [InlineData("\"-1:17\"", "-1:17")]
    public void Earlier_forms_are_read(string json, string position) =>
        Assert.Equal(LogPosition.Parse(position), JsonSerializer.Deserialize<LogPosition>(json));

    [Theory]
    [InlineData("\"x\"")]
    [InlineData("\"1:\"")]
    [InlineData("\":1\"")]
    [InlineData("\"-2:1\"")]
    [InlineData("\"+1:1\"")]
    [InlineData("\"-1\"")]
    [InlineData("{}")]
    [InlineData("true")]
    public void What_is_none_is_refused(string json) => Assert.Throws<JsonException>(() => JsonSerializer.Deserialize<LogPosition>(json));

    [Theory]
    [InlineData("a", 7, 0)]
    [InlineData("a", 100, 0)]
    [InlineData("a", 101, 2)]
    [InlineData("a", 500, 2)]
    [InlineData("b", 50, 1)]
    [InlineData("b", 51, null)]
    [InlineData("c", 1, null)]
    public void An_offset_is_on_the_first_branch_of_its_log_that_reaches_so_far(string server, ulong offset, int? branch) =>
        Assert.Equal(branch, LogBranch.Find(Branches, new LogIdentity(server, 1), offset));

    [Theory]
    [InlineData(0, 10, true)]
    [InlineData(0, 100, true)]
    [InlineData(0, 101, false)]
    [InlineData(0, 9, false)]
    [InlineData(2, 1000, true)]
    public void Nothing_is_beyond_the_end_of_a_sealed_branch(int branch, ulong offset, bool holds) =>
        Assert.Equal(holds, Branches[branch].Contains(offset));

    [Fact]
    public void A_join_is_taken_only_with_every_fact_that_its_kind_needs()
    {
        foreach (var kind in Enum.GetValues<JoinKind>())
        {
            Assert.Null(Refusal(JoinEvidence.Complete(kind)));
            foreach (var missing in JoinEvidence.NeededFor(kind))
            {
                Assert.NotNull(Refusal(new JoinEvidence(kind, [.. JoinEvidence.NeededFor(kind).Except([missing])])));
                Assert.NotNull(Refusal(new JoinEvidence(kind, [.. Enum.GetValues<JoinFact>().Except([missing])])));
            }
        }

        static string? Refusal(JoinEvidence evidence) =>
            JoinRule.Refusal(new JoinPoint(First, 20, Second, 5, evidence), [new LogBranch(First, 10)], new LogPosition(20));
    }

    [Theory]
    [InlineData("another log is read", "b", 20, 15, JoinKind.Proved)]
    [InlineData("it was read beyond the end", "a", 20, 21, JoinKind.Proved)]
    [InlineData("derived before all was read", "a", 20, 19, JoinKind.Derived)]
    [InlineData("derived from a log that was read on", "a", 20, 21, JoinKind.Derived)]
    public void A_join_of_what_is_not_so_is_refused(string why, string old, ulong end, ulong spooled, JoinKind kind)
    {
        var join = new JoinPoint(new LogIdentity(old, 1), end, new LogIdentity("c", 1), 5, JoinEvidence.Complete(kind));
        Assert.True(JoinRule.Refusal(join, [new LogBranch(First, 10)], new LogPosition(spooled)) is not null, why);
    }

    [Fact]
    public void A_branch_ends_once_and_a_log_does_not_go_back()
    {
        var join = new JoinPoint(First, 100, Second, 5, JoinEvidence.Complete(JoinKind.Proved));
        Assert.NotNull(JoinRule.Refusal(join, [new LogBranch(First, 10, End: 100)], new LogPosition(100)));
        Assert.NotNull(JoinRule.Refusal(join with { New = First, Begin = 99 }, [new LogBranch(First, 10)], new LogPosition(90)));
        Assert.NotNull(JoinRule.Refusal(join, [], LogPosition.Zero));
    }

    private static readonly Gen<LogPosition> Positions = Gen.Select(Gen.Int[LogPosition.BeforeAll, 3], Gen.ULong, (branch, offset) =>
        new LogPosition(branch, offset)
    );
}
