using Vestige.Connectors.PostgreSql.Watching;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>What happened to the parts of a table and is not in the log.</summary>
/// <param name="Table">The table as a whole.</param>
/// <param name="What">What happened, as the end of a sentence.</param>
internal sealed record PartChange(TableName Table, string What)
{
    /// <summary>The parts that are gone, where that is all, and no row that satisfies their bounds is left; else empty.</summary>
    public IReadOnlyList<SchemaChange> Gone { get; init; } = [];

    /// <summary>Whether the log has all rows that came with it, so that copies need not know.</summary>
    public bool IsInLog { get; init; }

    /// <summary>What crossings learn of it.</summary>
    /// <param name="tables">
    /// What is known of tables. There are no steps to agree to while another change of the table waits to be reported at the same position:
    /// whoever agrees would agree to both and have seen one.
    /// </param>
    public TableChange In(TableWatch tables)
    {
        var form = tables.Find(Table) is { IsPublished: true } state ? state.FormOf(Table) : null;
        return Gone.Count == 0 || form is null || tables.Pending.Any(one => one.Table == Table)
            ? new TableChange(Table, null, new SchemaNotice(What))
            : new TableChange(Table, form, new SchemaNotice(What) { Changes = Gone, Before = form });
    }

    /// <summary>It as a version of the table by the same columns; null when the table is not known.</summary>
    public ToldVersion? VersionIn(TableWatch tables)
    {
        var certainty = IsInLog || Gone.Count > 0 ? VersionCertainty.Derived : VersionCertainty.Undecided;
        return tables.Find(Table)?.Described(Table) is { } schema
            ? new ToldVersion(Table, LogPosition.Zero, certainty, schema, What) { Before = schema, Beside = Gone }
            : null;
    }
}
