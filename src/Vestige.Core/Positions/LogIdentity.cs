namespace Vestige.Core.Positions;

/// <summary>
/// Which log a position belongs to. A database that was restored or promoted has another identity or another timeline,
/// and positions taken before it mean nothing after it.
/// </summary>
/// <param name="Server">The server's own identifier, stable over restarts.</param>
/// <param name="Timeline">Counts the branches of the server's history.</param>
public sealed record LogIdentity(string Server, long Timeline)
{
    public override string ToString() => $"{Server}/{Timeline}";
}
