using System.Text.Json.Serialization;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>A table as the catalogue had it at one moment: which table it is, its columns, its file, and where it is published.</summary>
/// <param name="Number">pg_class.oid: the table itself, whatever it is called.</param>
/// <param name="Shape">A digest of its kind, columns and key by their numbers and names; the same under every search path.</param>
/// <param name="Stamp">Another whenever a column's catalogue row was written, or an enum or composite type of the database changed.</param>
/// <param name="File">The number of its file; of a partitioned table the sum of those of its parts.</param>
/// <param name="Columns">By number, generated ones included.</param>
/// <param name="Key">The numbers of the columns by which the log tells which row was changed, in key order.</param>
/// <param name="Whole">The entry by which the publication of all changes has it; null when it has not.</param>
/// <param name="Inserts">The entry by which the publication of inserts has it; null when it has not.</param>
/// <param name="Identified">Whether the server can log a changed row of it. Updates fail where it cannot and they are published.</param>
/// <param name="Glance">A digest of all that.</param>
internal sealed record TableState(
    uint Number,
    string Shape,
    string Stamp,
    long File,
    IReadOnlyList<ColumnState> Columns,
    IReadOnlyList<short> Key,
    uint? Whole,
    uint? Inserts,
    bool Identified,
    string Glance
)
{
    /// <summary>How many changes back rows are still recognised.</summary>
    private const int MostFormer = 4;

    /// <summary>See <see cref="TableSchema.Incarnation"/>.</summary>
    public string Incarnation => IncarnationOf(Number, Shape);

    /// <summary>pg_class.relnatts: how many columns it ever had, dropped ones included; null where that was not read.</summary>
    public int? Attributes { get; init; }

    /// <summary>
    /// The table as it was before what was done last, where all of that is known; null where it is not, and where nothing was noticed. Rows
    /// of that time may yet come in the log: the catalogue is ahead of it.
    /// </summary>
    [JsonPropertyName("BeforeAdding")]
    public TableState? Former { get; init; }

    /// <summary>What keeps rows out of it; null where that was not read.</summary>
    public IReadOnlyList<GuardState>? Guards { get; init; }

    /// <summary>
    /// Where in the log the look ended that found what was done last: whatever lies beyond was written after it. Null where nothing was
    /// noticed, and where that was not noted.
    /// </summary>
    public LogPosition? Found { get; init; }

    /// <summary>The last of its changes that the source has recorded and that is in this; null where none is.</summary>
    public long? Record { get; init; }

    /// <summary>How many changes were noticed that concern its rows.</summary>
    public int Generation { get; init; }

    /// <summary>The same, where nothing was done that concerns its rows.</summary>
    public TableState Like(TableState before) =>
        this with
        {
            Former = before.Former,
            Found = before.Found,
            Generation = before.Generation,
        };

    /// <summary>The same with what is known of the time before.</summary>
    public TableState After(TableState former, LogPosition found) =>
        this with
        {
            Former = former.Trimmed(MostFormer),
            Found = found,
            Generation = former.Generation + 1,
        };

    private TableState Trimmed(int formers) => this with { Former = formers > 1 ? Former?.Trimmed(formers - 1) : null };

    public bool IsPublished => Whole is not null || Inserts is not null;

    /// <summary>As the catalogue's digest and number make it.</summary>
    public static string IncarnationOf(long number, string shape) => $"{number}.{shape}";

    /// <summary>All of its columns, generated ones too, with what the log does not tell of them.</summary>
    public TableSchema Described(TableName name) =>
        FormOf(name) with
        {
            Columns =
            [
                .. Columns.Select(column => new Column(
                    column.Name,
                    column.Type,
                    column.Nullable,
                    Key.ToList().IndexOf(column.Number) + 1,
                    column.Default,
                    column.Generated,
                    Id: column.Number
                )),
            ],
            Objects = [.. (Guards ?? []).Select(guard => guard.Described)],
            Generation = 0,
        };

    /// <summary>The columns that cross, as a schema.</summary>
    public TableSchema FormOf(TableName name) =>
        new(
            name,
            [
                .. Columns
                    .Where(column => !column.Generated)
                    .Select(column => new Column(
                        column.Name,
                        column.Type,
                        KeyOrdinal: Key.ToList().IndexOf(column.Number) + 1,
                        Id: column.Number
                    )
                    {
                        Missing = column.Missing,
                    }),
            ],
            [],
            []
        )
        {
            Generation = Generation,
            Incarnation = Incarnation,
            Stamp = Stamp,
        };
}
