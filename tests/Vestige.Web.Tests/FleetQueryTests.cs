using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.WebUtilities;
using Vestige.Core.Crossings;
using Vestige.Core.Forecasting;
using Vestige.Core.Lag;
using Vestige.Engine.Measuring;
using Vestige.Web.Fleet;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>Lists of crossings: found, narrowed, ordered and grouped.</summary>
public sealed class FleetQueryTests
{
    private static readonly DateTimeOffset Now = new(2026, 3, 1, 12, 0, 0, TimeSpan.Zero);

    private static readonly CrossingStatus[] All =
    [
        Status("alpha", CrossingState.Following, tags: ["night", "money"]),
        Status("beta", CrossingState.CatchingUp, behind: 90),
        Status("gamma", CrossingState.Paused, behind: 30, source: "depot", tags: ["money"]),
        Status("delta", CrossingState.CatchingUp, behind: 200),
        Status("epsilon", CrossingState.Draft, target: "depot"),
    ];

    [Theory]
    [InlineData("", "gamma delta beta alpha epsilon")]
    [InlineData("sort=name", "alpha beta delta epsilon gamma")]
    [InlineData("sort=behind", "delta beta gamma alpha epsilon")]
    [InlineData("sort=sideways", "gamma delta beta alpha epsilon")]
    [InlineData("find=DEPOT", "gamma epsilon")]
    [InlineData("find=money&sort=name", "alpha gamma")]
    [InlineData("word=catching+up", "delta beta")]
    [InlineData("word=nothing", "")]
    [InlineData("tag=night", "alpha")]
    [InlineData("connection=depot&sort=name", "epsilon gamma")]
    [InlineData("group=tag&sort=name", "gamma alpha beta delta epsilon")]
    public void What_is_asked_for_is_listed_in_its_order(string query, string names) =>
        Assert.Equal(names, string.Join(' ', Read(query).Of(All).Select(status => status.Name)));

    [Theory]
    [InlineData("", "/")]
    [InlineData("find=a+b%26c&word=place+lost&sort=rate&group=tag&page=3", "/?find=a%20b%26c&word=place%20lost&sort=rate&group=tag&page=3")]
    [InlineData("page=-5&sort=worst", "/")]
    public void An_address_says_all_of_it_and_is_read_back_as_the_same(string query, string address)
    {
        var read = Read(query);
        Assert.Equal(address, read.Address("/"));
        Assert.Equal(read, Read(address.TrimStart('/', '?')));
    }

    [Fact]
    public void Choices_say_how_many_there_are_of_each()
    {
        var choices = FleetChoices.Of(new(), "/", All);
        Assert.Equal([("paused", 1), ("catching up", 2), ("following", 1), ("draft", 1)], choices.Words);
        Assert.Equal([("money", 2), ("night", 1)], choices.Tags);
        Assert.Equal(["depot", "shop", "store"], choices.Connections);
    }

    private static FleetQuery Read(string query) =>
        FleetQuery.Of(new QueryCollection(QueryHelpers.ParseQuery(query)));

    private static CrossingStatus Status(
        string name,
        CrossingState state,
        double behind = 0,
        string source = "shop",
        string target = "store",
        string[]? tags = null
    ) =>
        new()
        {
            Definition = new CrossingDefinition(name, CrossingDefinition.Copy, source, target, new TableRules([])) with { Tags = tags },
            At = Now,
            State = state,
            Since = Now,
            By = "ann",
            Lag = new LagReading(TimeSpan.FromSeconds(behind), behind == 0, false),
            Clears = Forecast.WhenClear(0, [], []),
            Exhaustion = LogExhaustion.None,
            PastForecasts = new ForecastQualities(null, null, null, null),
            Tables = [],
        };
}
