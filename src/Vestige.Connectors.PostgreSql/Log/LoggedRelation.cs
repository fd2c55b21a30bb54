using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>A table as the log told it.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Schema">Null when its changes are not wanted.</param>
/// <param name="Number">The number of the form.</param>
/// <param name="IsKey">By column: whether the log carries it for old rows.</param>
/// <param name="Doubt">What was told of its columns, where several forms fit it; null where the form is known.</param>
internal sealed record LoggedRelation(
    TableName Name,
    TableSchema? Schema,
    int Number,
    IReadOnlyList<bool> IsKey,
    DoubtfulForm? Doubt = null
);
