using Vestige.Core.Positions;

namespace Vestige.Engine.Ports;

/// <summary>From where a log can be read.</summary>
/// <param name="Position">Everything after it can be read; on the first branch.</param>
/// <param name="Token">Where it can be continued from there, in the source's words; null where the position says that.</param>
public sealed record LogStart(LogPosition Position, string? Token = null);
