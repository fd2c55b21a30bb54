using System.Data.Common;

namespace Vestige.Engine.Faults;

/// <summary>How failures stand in the log of the process.</summary>
internal static class FailureLog
{
    /// <summary>
    /// The exception whose stack is worth a look; null for what a system, the network or a disk answered, of which the sentence says all.
    /// </summary>
    public static Exception? StackOf(Exception exception) =>
        exception is PortException or IOException or TimeoutException or DbException ? null : exception;
}
