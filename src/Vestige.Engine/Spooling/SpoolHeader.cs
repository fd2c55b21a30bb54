using Vestige.Core.Positions;

namespace Vestige.Engine.Spooling;

/// <summary>The first record of a spool file: which log it is of, and what came before it.</summary>
internal sealed record SpoolHeader(string Server, long Timeline, ulong After, long Transactions, long Changes)
{
    public LogIdentity Identity => new(Server, Timeline);
}
