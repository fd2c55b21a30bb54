using Vestige.Core.Positions;

namespace Vestige.Engine.Ports;

/// <summary>What a source says of a token that was read from its log, or from the log of a system that it has become.</summary>
public abstract record LogContinuity
{
    private LogContinuity() { }

    /// <summary>It is the same log.</summary>
    public sealed record Same : LogContinuity;

    /// <summary>It is another log, which says of itself that it holds exactly what was read, and continues after it.</summary>
    /// <param name="Identity">Which log it is.</param>
    /// <param name="Begin">The offset of it after which that which was not read follows.</param>
    /// <param name="Token">Where it can be continued there, in the source's words; null where the offset says that.</param>
    public sealed record NewBranch(LogIdentity Identity, ulong Begin, string? Token = null) : LogContinuity;

    /// <summary>It is another log, of which that is not known.</summary>
    /// <param name="Identity">Which log it is.</param>
    /// <param name="Why">What may have happened, as a sentence.</param>
    public sealed record Lost(LogIdentity Identity, string Why) : LogContinuity;

    /// <summary>The answer of a source that knows a log by its identity alone.</summary>
    public static LogContinuity ByIdentity(ResumeToken token, LogIdentity found)
    {
        ArgumentNullException.ThrowIfNull(token);
        return token.Identity == found ? new Same() : new Lost(found, "The database was restored or replaced.");
    }
}
