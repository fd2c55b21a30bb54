namespace Vestige.Connectors.StandIn.Drills;

/// <summary>A row that the stand-in refuses to insert or update.</summary>
/// <param name="Table">The table's bare name.</param>
/// <param name="Key">The value of its first key column, as text.</param>
public sealed record RefusedRow(string Table, string Key);
