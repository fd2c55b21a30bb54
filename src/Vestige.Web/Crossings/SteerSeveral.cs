using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;

namespace Vestige.Web.Crossings;

/// <summary>Pauses, resumes or stops several crossings; what one refuses does not keep the others from it.</summary>
public sealed class SteerSeveral(CrossingEngine engine)
{
    /// <summary>What can be asked.</summary>
    public static IReadOnlyList<string> Actions { get; } = ["pause", "resume", "stop"];

    /// <summary>What was asked, in words.</summary>
    public static string Word(string action) =>
        action switch
        {
            "pause" => "Paused",
            "resume" => "Resumed",
            _ => "Asked to stop when all that is captured is applied",
        };

    /// <summary>Does it to each, a few at a time, and returns what came of it, in the order asked.</summary>
    public async Task<IReadOnlyList<SteerOutcome>> DoAsync(
        IReadOnlyCollection<string> names,
        string action,
        string by,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(names);
        var outcomes = new SteerOutcome[names.Count];
        await Parallel.ForEachAsync(
            names.Select((name, i) => (name, i)),
            new ParallelOptions { MaxDegreeOfParallelism = 8, CancellationToken = cancellation },
            async (one, stop) => outcomes[one.i] = await DoAsync(one.name, action, by, stop)
        );
        return outcomes;
    }

    private async Task<SteerOutcome> DoAsync(string name, string action, string by, CancellationToken cancellation)
    {
        try
        {
            await (
                action switch
                {
                    "pause" => engine.PauseAsync(name, by, cancellation),
                    "resume" => engine.RunAsync(name, by, cancellation),
                    "stop" => engine.StopAsync(name, StopMode.Drain, by, cancellation),
                    _ => throw new RequestRefusedException($"'{action}' cannot be asked of several.")
                    {
                        Remedy = "Use pause, resume or stop.",
                    },
                }
            );
            return new SteerOutcome(name, null);
        }
        catch (Exception exception) when (exception is RequestRefusedException or NotReadyException or PortException)
        {
            return new SteerOutcome(name, $"{name}: {exception.Message}");
        }
    }
}
