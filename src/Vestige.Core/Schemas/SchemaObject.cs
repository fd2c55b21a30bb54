namespace Vestige.Core.Schemas;

/// <summary>A part of a table's structure as a statement of its engine.</summary>
/// <param name="Stage">When it is made.</param>
/// <param name="Name">What it is called; unique within the stage and the table's schema.</param>
/// <param name="Statement">The statement that makes it; empty for what is made within the table's own.</param>
/// <param name="References">The table that must be there; null when there is none.</param>
public sealed record SchemaObject(SchemaStage Stage, string Name, string Statement, TableName? References = null)
{
    /// <summary>The table's columns that it depends on.</summary>
    public IReadOnlyList<string> Columns { get; init; } = [];

    /// <summary>The columns of the referenced table, in the order of <see cref="Columns"/>.</summary>
    public IReadOnlyList<string> ReferencedColumns { get; init; } = [];

    /// <summary>What its statement says after the table's name, in the engine's own words; empty where that makes no sense.</summary>
    public string Text { get; init; } = "";

    /// <summary>What has to be on the target before it is made.</summary>
    public IReadOnlyList<SchemaNeed> Needs { get; init; } = [];

    /// <summary>Why no copy gets it, though the source has it; null when copies do.</summary>
    public string? NotMade { get; init; }
}
