using Vestige.Connectors.PostgreSql.Watching;
using Vestige.Core.Schemas;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Whether what was recorded explains what a look finds.</summary>
public sealed class RecordedChangesTests
{
    private static readonly TableState First = State(3, Column(1, "id", 10), Column(2, "a", 10), Column(3, "b", 10));
    private static readonly TableState Renamed = State(3, Column(1, "id", 10), Column(2, "x", 11), Column(3, "b", 10));
    private static readonly TableState Added = State(4, Column(1, "id", 10), Column(2, "x", 11), Column(3, "b", 10), Column(4, "c", 12));

    [Fact]
    public void Records_lead_from_what_is_known_to_what_is_found_one_statement_at_a_time()
    {
        Assert.True(RecordedChanges.Lead(First, [Record(1, Renamed)], Renamed));
        Assert.True(RecordedChanges.Lead(First, [Record(1, Renamed), Record(2, Added)], Added));
        Assert.True(RecordedChanges.Lead(Renamed with { Record = 1 }, [Record(1, Renamed), Record(2, Added)], Added));
    }

    [Fact]
    public void What_nothing_recorded_is_found()
    {
        Assert.False(RecordedChanges.Lead(First, [], First));
        Assert.False(RecordedChanges.Lead(First, [Record(1, Renamed)], Added));
        Assert.False(RecordedChanges.Lead(First, [Record(2, Added)], Added));
        Assert.False(RecordedChanges.Lead(First, [Record(1, Renamed)], Renamed with { Whole = 7 }));

        // A column that came and went in between shows in how many there ever were.
        Assert.False(RecordedChanges.IsOneStatement(First, Renamed with { Attributes = 4 }));

        // Two columns written by two transactions are two statements.
        Assert.False(RecordedChanges.IsOneStatement(First, State(3, Column(1, "id", 10), Column(2, "x", 11), Column(3, "y", 12))));
        Assert.True(RecordedChanges.IsOneStatement(First, State(4, Column(1, "id", 10), Column(2, "x", 11), Column(4, "y", 11))));
    }

    [Fact]
    public void A_record_of_another_version_or_of_nobody_is_not_read()
    {
        Assert.Null(RecordedChange.Parse("not JSON"));
        Assert.Null(RecordedChange.Parse("[]"));
        Assert.Null(RecordedChange.Parse("{\"version\": \"2\", \"facts\": {}}"));
        Assert.Null(RecordedChange.Parse("{\"version\": \"1\", \"number\": \"x\", \"facts\": {\"nspname\": null, \"relname\": null}}"));
    }

    private static RecordedChange Record(long number, TableState state) => new(number, new TableName("public", "t"), state, null);

    private static ColumnState Column(short number, string name, long writer) => new(number, name, "text", 25, -1, false, writer, false);

    private static TableState State(int attributes, params ColumnState[] columns) =>
        new(16400, string.Join(',', columns.Select(column => column.Name)), "", 5, columns, [1], null, null, true, "")
        {
            Attributes = attributes,
            Guards = [],
        };
}
