using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.WebUtilities;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Web.Crossings;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>Lists of a crossing's tables: found, narrowed and ordered.</summary>
public sealed class TableQueryTests
{
    private static readonly DateTimeOffset Now = new(2026, 3, 1, 12, 0, 0, TimeSpan.Zero);

    private static readonly TableStatus[] All =
    [
        Table("author", TableState.Following, inserts: 5, seconds: 10),
        Table("book", TableState.Held),
        Table("copy", TableState.Held, quarantined: 2, inserts: 50),
        Table("fine", TableState.Following, into: "penalty", inserts: 7, seconds: 60),
        Table("loan", TableState.Loading),
        Table("patron", TableState.LeftOut),
    ];

    [Theory]
    [InlineData("", "book copy loan author fine patron")]
    [InlineData("sort=name", "author book copy fine loan patron")]
    [InlineData("sort=changes", "copy fine author book loan patron")]
    [InlineData("sort=latest", "fine author book copy loan patron")]
    [InlineData("find=PENAL", "fine")]
    [InlineData("find=o&state=held", "book")]
    [InlineData("state=quarantine", "copy")]
    [InlineData("state=differs", "")]
    [InlineData("state=left+out", "patron")]
    [InlineData("state=nothing", "")]
    public void What_is_asked_for_is_listed_in_its_order(string query, string names) =>
        Assert.Equal(names, string.Join(' ', Read(query).Of(All).Select(table => table.Source.Name)));

    [Theory]
    [InlineData("", "/t")]
    [InlineData("find=a+b&state=left+out&sort=latest&page=3", "/t?find=a%20b&state=left%20out&sort=latest&page=3")]
    [InlineData("sort=sideways&page=x", "/t")]
    public void An_address_says_all_of_it_and_is_read_back_as_the_same(string query, string address)
    {
        var read = Read(query);
        Assert.Equal(address, read.Address("/t"));
        Assert.Equal(read, Read(address.Replace("/t", "", StringComparison.Ordinal).TrimStart('?')));
    }

    [Fact]
    public void Choices_say_how_many_there_are_of_each() =>
        Assert.Equal([("quarantine", 1), ("held", 1), ("loading", 1), ("following", 2), ("left out", 1)], TableQuery.Choices(All));

    private static TableQuery Read(string query) => TableQuery.Of(new QueryCollection(QueryHelpers.ParseQuery(query)));

    private static TableStatus Table(
        string name,
        TableState state,
        string? into = null,
        int quarantined = 0,
        long inserts = 0,
        int? seconds = null
    ) =>
        new(
            new TableName("shop", name),
            [new TableName("store", into ?? name)],
            state,
            state == TableState.Held ? "It waits." : null,
            0,
            null,
            quarantined,
            TimeSpan.Zero,
            null,
            TableTally.None with
            {
                Inserts = inserts,
                LastChangeAt = seconds is { } after ? Now.AddSeconds(after) : null,
            }
        );
}
