using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>
/// What keeps rows out of a table, beside its key: a unique constraint or index, an exclusion, a check, a reference.
/// </summary>
/// <param name="Number">pg_constraint.oid, or of an index that is no constraint's pg_class.oid.</param>
/// <param name="Name">What it is called.</param>
/// <param name="Text">As the server describes it.</param>
internal sealed record GuardState(uint Number, string Name, string Text)
{
    /// <summary>Whether it is an index and no constraint.</summary>
    public bool IsIndex => IsOfIndex(Text);

    /// <summary>As a part of the table's structure.</summary>
    public SchemaObject Described =>
        new(Text.StartsWith("FOREIGN KEY", StringComparison.Ordinal) ? SchemaStage.Reference : SchemaStage.Key, Name, "") { Text = Text };

    /// <summary>Whether such a text is of an index (pg_get_indexdef) and not of a constraint (pg_get_constraintdef).</summary>
    public static bool IsOfIndex(string? text) => text?.StartsWith("CREATE ", StringComparison.Ordinal) == true;
}
