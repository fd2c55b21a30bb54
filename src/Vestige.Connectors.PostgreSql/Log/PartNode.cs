namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>One table below a partitioned one, as last seen.</summary>
/// <param name="Name">Its name, quoted where needed.</param>
/// <param name="File">The number of its file; 0 when it has none, being partitioned itself.</param>
internal sealed record PartNode(string Name, uint File);
