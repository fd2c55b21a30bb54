using Vestige.Core.Positions;
using Vestige.Web.Views;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>What is read again, and until when, is drawn where it is.</summary>
public sealed class LogPictureTests
{
    [Fact]
    public void Changes_that_are_applied_again_lie_between_their_place_and_now_on_the_scale_of_the_log()
    {
        var picture = LogPicture.OfRewind(new LogPosition(1000), new LogPosition(1500), new LogPosition(2000), "2026-11-25 13:00", 2)!;
        var again = picture.Lanes.Single(lane => lane.Name == "these tables").Stretches.Single();
        var kept = picture.Lanes.Single(lane => lane.Name == "in the spool").Stretches.Single();
        Assert.Equal(kept.To, again.To);
        Assert.Equal((kept.From + kept.To) / 2, again.From, 6);
        Assert.Equal(["from here", "now"], picture.Marks.Select(mark => mark.Label));
        Assert.Contains("since 2026-11-25 13:00 are applied again", picture.Says, StringComparison.Ordinal);
    }

    [Fact]
    public void There_is_no_picture_across_two_logs_and_of_nothing()
    {
        Assert.Null(LogPicture.OfRewind(new LogPosition(1), new LogPosition(2), new LogPosition(2).On(1), "now", 1));
        Assert.Null(LogPicture.OfRewind(new LogPosition(2), new LogPosition(2), new LogPosition(2), "now", 1));
    }

    [Theory]
    [InlineData(true, "other tables follow as before")]
    [InlineData(false, "other tables wait until the rows are read")]
    public void Other_tables_follow_or_wait_while_tables_are_loaded(bool goOn, string says)
    {
        var picture = LogPicture.OfReload(TimeSpan.FromMinutes(3), goOn, 2, hasOthers: true);
        Assert.Contains(says, picture.Says, StringComparison.OrdinalIgnoreCase);
        Assert.Contains(picture.Marks, mark => mark.Label == "in about 3.0 min");
        var stretches = picture.Lanes.SelectMany(lane => lane.Stretches);
        Assert.All(stretches, one => Assert.True(one is { From: >= 0, To: <= 1 } && one.From < one.To));
        Assert.Equal(goOn ? 1 : 3, picture.Lanes[1].Stretches.Count);
        Assert.Single(LogPicture.OfReload(null, goOn, 1, hasOthers: false).Lanes);
    }
}
