namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>One table below a partitioned one, as last seen.</summary>
/// <param name="Name">Its name, quoted where needed.</param>
/// <param name="File">The number of its file; 0 when it has none, being partitioned itself.</param>
/// <param name="Bounds">
/// The condition that its rows satisfy, in the server's words, made of plain columns; null where it is made of anything else, as of a hash,
/// and where it was not read.
/// </param>
internal sealed record PartNode(string Name, uint File, string? Bounds = null);
