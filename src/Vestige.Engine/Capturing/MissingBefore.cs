using Vestige.Core.Positions;

namespace Vestige.Engine.Capturing;

/// <summary>
/// Says what targets of a source lack of its log before a position, as the end of a sentence; null when they lack nothing. Throws a
/// transient <see cref="Faults.PortException"/> where one cannot be asked.
/// </summary>
public delegate Task<string?> MissingBefore(string connection, LogIdentity identity, LogPosition position, CancellationToken cancellation);
