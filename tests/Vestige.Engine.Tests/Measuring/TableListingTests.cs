using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;
using Xunit;

namespace Vestige.Engine.Tests.Measuring;

public class TableListingTests
{
    private static readonly IReadOnlyList<TableProgress> Tables = [Progress("loan"), Progress("branch"), Progress("audit")];

    [Fact]
    public void Tables_that_the_definition_takes_are_listed_by_name_and_worked_out_once()
    {
        var (listing, ways) = (new TableListing(), Ways("circulation.audit"));
        var listed = listing.Of(Tables, ways, null);
        Assert.Equal(["branch", "loan"], listed.Select(table => table.Name.Name));
        Assert.All(listed, table => Assert.Equal([table.Name], table.Into));
        Assert.Same(listed, listing.Of(Tables, ways, null));
    }

    [Fact]
    public void Other_tables_or_another_definition_are_listed_anew()
    {
        var (listing, ways) = (new TableListing(), Ways("circulation.audit"));
        var listed = listing.Of(Tables, ways, null);
        Assert.Equal(3, listing.Of([.. Tables, Progress("visit")], ways, null).Count);
        Assert.Equal(["audit", "branch", "loan"], listing.Of(Tables, Ways("nothing.nowhere"), null).Select(table => table.Name.Name));
        Assert.Equal(listed.Select(table => table.Name), listing.Of(Tables, ways, null).Select(table => table.Name));
    }

    private static TableOptions Ways(string left) =>
        new(new CrossingDefinition("c", CrossingDefinition.Copy, "a", "b", new TableRules([new("*.*"), new(Leave: left)])));

    private static TableProgress Progress(string name) =>
        new(new TableName("circulation", name), Loaded: true, LogPosition.Zero);
}
