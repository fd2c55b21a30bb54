using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Loading;

/// <summary>Some rows on their way into one table of the target.</summary>
/// <param name="Chunk">Where they come from.</param>
/// <param name="Target">Where they go.</param>
/// <param name="Block">They themselves.</param>
/// <param name="Rows">How many rows of the source are done with when they are written.</param>
internal readonly record struct LoadedBlock(LoadChunk Chunk, TableSchema Target, RowBlock Block, int Rows);
