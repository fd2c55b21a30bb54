namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>What a partitioned table was made of when it was last compared with the log.</summary>
/// <param name="Nodes">The tables below it, by their identifier.</param>
/// <param name="Emptied">The latest transactions that the log told to have emptied the whole.</param>
/// <param name="Horizon">Transactions before this one had ended when it was last looked at; 0 where that was not kept.</param>
internal sealed record PartTree(Dictionary<uint, PartNode> Nodes, List<uint> Emptied, long Horizon = 0);
