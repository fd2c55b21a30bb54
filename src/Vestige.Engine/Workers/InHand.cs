namespace Vestige.Engine.Workers;

/// <summary>What a worker is applying.</summary>
/// <param name="Since">When it was begun.</param>
/// <param name="Changes">How many changes it has; of a large transaction those read so far.</param>
/// <param name="Large">Whether it is one transaction too large to fold.</param>
internal sealed record InHand(DateTimeOffset Since, long Changes, bool Large);
