using Microsoft.Extensions.Logging.Abstractions;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.SchemaVersions;
using Vestige.Tests.Shared.SchemaVersions;
using Xunit;

namespace Vestige.Engine.Tests.SchemaVersions;

/// <summary>What of the told versions is kept.</summary>
public sealed class SchemaHistoryTests
{
    private static readonly LogIdentity Log = new("server", 1);
    private static readonly TableName Book = new("shop", "book");
    private static readonly TableSchema Plain = Table(new Column("id", "integer", KeyOrdinal: 1, Id: 1));
    private static readonly TableSchema Wider = Table(Plain.Columns[0], new Column("title", "text", Id: 2));
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly MemorySchemaVersions store = new();
    private readonly Doubles.MemoryStore control = new();

    [Fact]
    public async Task A_table_that_was_found_counts_once()
    {
        await TakeAsync(History(), Found(Plain, 5));
        await TakeAsync(History(), Found(Wider, 9));
        var version = Assert.Single(store.All("shop"));
        Assert.Equal((Plain, new LogPosition(5), "", 1), (version.Schema, version.From, version.What, version.Number));
        Assert.Equal(["Table found"], version.Changes.Select(change => change.Words));
    }

    [Fact]
    public async Task A_change_is_kept_with_what_is_different_from_the_version_before()
    {
        var history = History();
        await TakeAsync(history, Found(Plain, 5));
        await TakeAsync(history, Changed(Plain, Wider, 9, "column title was added"));
        await TakeAsync(history, Changed(Wider, null, 12, "it was dropped"));
        Assert.Equal([1, 2, 3], store.All("shop").Select(version => version.Number));
        Assert.Equal(
            ["Table found", "Column title added (text)", "Table dropped or renamed"],
            store.All("shop").SelectMany(version => version.Changes).Select(change => change.Words)
        );
    }

    [Fact]
    public async Task Several_changes_of_one_read_each_differ_from_the_one_before()
    {
        await TakeAsync(
            History(),
            Found(Plain, 5),
            Changed(Plain, Wider, 9, "column title was added"),
            Changed(Wider, Plain, 9, "column title was dropped") with
            {
                Ordinal = 1,
            }
        );
        Assert.Equal(
            ["Table found", "Column title added (text)", "Column title dropped (was text)"],
            store.All("shop").SelectMany(version => version.Changes).Select(change => change.Words)
        );
    }

    [Fact]
    public async Task Of_a_table_that_was_not_known_the_version_before_the_change_is_kept_too()
    {
        await TakeAsync(History(), Changed(Plain, Wider, 9, "column title was added"));
        Assert.Equal([Plain, Wider], store.All("shop").Select(version => version.Schema));
        Assert.Equal(["", "column title was added"], store.All("shop").Select(version => version.What));
    }

    [Fact]
    public async Task What_is_told_again_after_a_crash_is_kept_once()
    {
        ToldVersion[] told =
        [
            Found(Plain, 5),
            Changed(Plain, Wider, 9, "column title was added"),
            Changed(Wider, Plain, 11, "it was dropped again"),
        ];
        await TakeAsync(History(), told);
        await TakeAsync(History(), told);
        await TakeAsync(History(), told[1..]);
        Assert.Equal(3, store.All("shop").Count);
    }

    [Fact]
    public async Task A_name_that_goes_to_and_fro_in_one_transaction_is_kept_each_time_and_once()
    {
        var flips = Enumerable
            .Range(0, 4)
            .Select(i => Changed(null, i % 2 == 0 ? Wider : Plain, 9, "it was renamed") with
            {
                Certainty = VersionCertainty.Exact,
                Ordinal = i,
            })
            .ToArray();
        await TakeAsync(History(), [Found(Plain, 5), .. flips[..3]]);
        await TakeAsync(History(), flips[3]);
        await TakeAsync(History(), flips);
        Assert.Equal([Plain, Wider, Plain, Wider, Plain], store.All("shop").Select(version => version.Schema));
    }

    [Fact]
    public async Task A_change_that_was_derived_once_more_at_a_later_position_is_the_same()
    {
        await TakeAsync(History(), Found(Plain, 5), Changed(Plain, Wider, 9, "column title was added"));
        await TakeAsync(History(), Changed(Plain, Wider, 14, "column title was added"));
        Assert.Equal(2, store.All("shop").Count);
    }

    [Fact]
    public async Task Rows_that_were_rewritten_make_a_version_of_the_same_schema()
    {
        var (once, twice) = (Plain with { Stamp = "1" }, Plain with { Stamp = "2" });
        await TakeAsync(
            History(),
            Found(Plain, 5),
            Changed(Plain, once, 9, "its rows were rewritten"),
            Changed(once, twice, 12, "its rows were rewritten")
        );
        Assert.Equal(["", "its rows were rewritten", "its rows were rewritten"], store.All("shop").Select(version => version.What));
        Assert.All(store.All("shop").Skip(1), version => Assert.Empty(version.Changes));
    }

    [Fact]
    public async Task Another_log_begins_its_positions_anew()
    {
        await TakeAsync(History(), Found(Plain, 500));
        await History().TakeAsync([Changed(Plain, Wider, 3, "column title was added")], new LogIdentity("server", 2), cancellation);
        Assert.Equal(2, store.All("shop").Count);
    }

    [Fact]
    public async Task What_the_store_refuses_is_told_again_and_kept_then()
    {
        var history = History();
        await TakeAsync(history, Found(Plain, 5));
        store.Keeping = () => throw new StoreException("The disk is full.", new IOException());
        await Assert.ThrowsAsync<StoreException>(() => TakeAsync(history, Changed(Plain, Wider, 9, "column title was added")));
        store.Keeping = () => { };
        await TakeAsync(history, Changed(Plain, Wider, 9, "column title was added"));
        Assert.Equal(2, store.All("shop").Count);
        Assert.Single(control.Events, happened => happened.Text == "The schema of shop.book changed: Column title added (text).");
    }

    private SchemaHistory History() =>
        new("shop", store, new EventLog(control, TimeProvider.System, NullLogger.Instance), TimeProvider.System);

    private Task TakeAsync(SchemaHistory history, params ToldVersion[] told) => history.TakeAsync(told, Log, cancellation);

    private static ToldVersion Found(TableSchema schema, ulong at) => new(Book, new LogPosition(at), VersionCertainty.Exact, schema, "");

    private static ToldVersion Changed(TableSchema? before, TableSchema? after, ulong at, string what) =>
        new(Book, new LogPosition(at), VersionCertainty.Derived, after, what) { Before = before };

    private static TableSchema Table(params Column[] columns) => new(Book, columns, [], []);
}
