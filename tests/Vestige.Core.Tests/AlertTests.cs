using CsCheck;
using Vestige.Core.Alerts;
using Xunit;

namespace Vestige.Core.Tests;

/// <summary>Alerts do not flap, and end.</summary>
public class AlertTests
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 12, 0, 0, TimeSpan.Zero);

    /// <summary>Between two changes of an alarm lies at least the time that the condition must hold, or be gone, without a break.</summary>
    [Fact]
    public void On_a_noisy_signal_an_alarm_changes_only_after_the_signal_was_steady_for_long_enough() =>
        Gen.Select(Gen.Bool.Array[1, 400], Gen.Int[0, 20], Gen.Int[0, 20])
            .Sample(
                (signal, after, overAfter) =>
                {
                    var alarm = Alarm.Quiet;
                    for (var second = 0; second < signal.Length; second++)
                    {
                        var before = alarm.Raised;
                        alarm = alarm.Step(
                            signal[second],
                            Start.AddSeconds(second),
                            TimeSpan.FromSeconds(after),
                            TimeSpan.FromSeconds(overAfter)
                        );
                        if (alarm.Raised == before)
                        {
                            continue;
                        }

                        var steady = Math.Min(second, alarm.Raised ? after : overAfter);
                        Assert.All(signal[(second - steady)..(second + 1)], value => Assert.Equal(alarm.Raised, value));
                    }
                }
            );

    [Fact]
    public void A_signal_that_comes_and_goes_faster_than_it_must_hold_is_never_raised_and_once_raised_never_over()
    {
        var (quiet, raised) = (Alarm.Quiet, Alarm.Quiet.Step(true, Start, TimeSpan.Zero, TimeSpan.FromSeconds(60)));
        for (var second = 0; second < 3600; second++)
        {
            var now = Start.AddSeconds(second);
            quiet = quiet.Step(second % 10 < 8, now, TimeSpan.FromSeconds(30), TimeSpan.FromSeconds(60));
            raised = raised.Step(second % 10 == 0, now, TimeSpan.Zero, TimeSpan.FromSeconds(60));
            Assert.False(quiet.Raised);
            Assert.True(raised.Raised);
        }

        Assert.False(
            raised
                .Step(false, Start.AddHours(2), TimeSpan.Zero, TimeSpan.FromSeconds(60))
                .Step(false, Start.AddHours(3), TimeSpan.Zero, TimeSpan.FromSeconds(60))
                .Raised
        );
    }

    [Fact]
    public void A_lag_is_over_only_below_a_lower_limit()
    {
        var rule = new AlertRule(NeedKind.Lag, LimitSeconds: 100);
        Assert.False(rule.IsMet(TimeSpan.FromSeconds(90), raised: false));
        Assert.True(rule.IsMet(TimeSpan.FromSeconds(101), raised: false));
        Assert.True(rule.IsMet(TimeSpan.FromSeconds(90), raised: true));
        Assert.False(rule.IsMet(TimeSpan.FromSeconds(79), raised: true));
    }

    [Fact]
    public void A_loss_is_told_so_long_ahead_and_over_only_when_it_is_further_off()
    {
        var rule = new AlertRule(NeedKind.LogLoss, LimitSeconds: 100);
        Assert.False(rule.IsMet(TimeSpan.FromSeconds(101), raised: false));
        Assert.True(rule.IsMet(TimeSpan.FromSeconds(99), raised: false));
        Assert.True(rule.IsMet(TimeSpan.FromSeconds(124), raised: true));
        Assert.False(rule.IsMet(TimeSpan.FromSeconds(126), raised: true));
        Assert.True(rule.IsMet(null, raised: false));
        Assert.Equal(
            (true, false),
            (
                new AlertRule(NeedKind.LogLoss).IsMet(TimeSpan.FromHours(5), raised: false),
                new AlertRule(NeedKind.LogLoss).IsMet(TimeSpan.FromDays(300), raised: false)
            )
        );
        Assert.Contains(new AlertSettings([rule with { LimitSeconds = 0 }], []).Check(), problem =>
            problem.Field == "rules[0].limitSeconds"
        );
    }

    [Theory]
    [InlineData("22:00", "07:00", "UTC", "2026-03-01T23:30:00Z", true)]
    [InlineData("22:00", "07:00", "UTC", "2026-03-01T06:59:00Z", true)]
    [InlineData("22:00", "07:00", "UTC", "2026-03-01T07:00:00Z", false)]
    [InlineData("22:00", "07:00", "Europe/Vienna", "2026-03-01T21:30:00Z", true)]
    [InlineData("22:00", "07:00", "Europe/Vienna", "2026-07-01T05:30:00Z", false)]
    [InlineData("08:00", "08:00", "UTC", "2026-03-01T08:00:00Z", false)]
    public void Quiet_hours_go_over_midnight_and_by_their_zone(string from, string to, string zone, string moment, bool quiet) =>
        Assert.Equal(quiet, new QuietHours(TimeOnly.Parse(from), TimeOnly.Parse(to), zone).Contains(DateTimeOffset.Parse(moment)));

    [Fact]
    public void The_last_rule_that_matches_decides_and_settings_are_checked()
    {
        var settings = new AlertSettings(
            [
                new AlertRule(NeedKind.Lag, LimitSeconds: 300),
                new AlertRule(NeedKind.Lag, Crossings: "ledger-*", LimitSeconds: 10, Channels: ["on-call"]),
            ],
            [new AlertChannel("on-call", AlertChannel.Webhook, Url: "https://example.org/hook")]
        );
        Assert.Empty(settings.Check());
        Assert.Equal(10, settings.RuleFor(NeedKind.Lag, "ledger-copy").LimitSeconds);
        Assert.Equal(300, settings.RuleFor(NeedKind.Lag, "warehouse").LimitSeconds);
        Assert.Null(settings.RuleFor(NeedKind.Held, "warehouse").Channels);
        Assert.Empty(AlertSettings.Default.Check());
        var wrong = new AlertSettings(
            [new AlertRule(NeedKind.Lag), new AlertRule(NeedKind.Held, ForSeconds: -1, Channels: ["nobody"])],
            [
                new AlertChannel("On Call", "pager"),
                new AlertChannel("hook", AlertChannel.Webhook, Url: "ftp://x"),
                new AlertChannel("mail", AlertChannel.Email, Host: "h", Port: 25, From: "a@b", To: ["nobody"]),
            ],
            new QuietHours(default, default, "Nowhere/None")
        );
        Assert.Equal(
            [
                "channels[0].kind",
                "channels[0].name",
                "channels[1].url",
                "channels[2].to",
                "quiet.zone",
                "rules[0].limitSeconds",
                "rules[1]",
                "rules[1].channels",
            ],
            wrong.Check().Select(problem => problem.Field).Order()
        );
    }
}
