using Vestige.Core.Positions;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>What the log told of columns that may be those of several forms of the table. Later transactions may leave only one.</summary>
/// <param name="Columns">As told.</param>
/// <param name="Tried">The last transaction for which several fitted.</param>
internal sealed record DoubtfulForm(IReadOnlyList<(string Name, uint Type, int Modifier, bool IsKey)> Columns, LogPosition Tried);
