using System.Globalization;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;

namespace Vestige.Web.Crossings;

/// <summary>Crossings that copy tables of another as they were.</summary>
public static class AsOfCopies
{
    /// <summary>A name that no crossing has, from the name of the other and the time now.</summary>
    public static string FreeName(CrossingEngine engine, string crossing, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(engine);
        ArgumentNullException.ThrowIfNull(crossing);
        var end = $"-past-{now.UtcDateTime.ToString("MMdd-HHmmss", CultureInfo.InvariantCulture)}";
        var stem = crossing[..Math.Min(crossing.Length, DefinitionRules.LongestName - end.Length - 3)] + end;
        return Enumerable
            .Range(1, int.MaxValue - 1)
            .Select(i => i == 1 ? stem : $"{stem}-{i}")
            .First(candidate => engine.Status(candidate) is null);
    }

    /// <summary>
    /// Starts one. Throws <see cref="NotReadyException"/> with every check where that cannot be done; nothing is kept then.
    /// </summary>
    public static async Task StartAsync(CrossingEngine engine, CrossingDefinition definition, string by, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(engine);
        ArgumentNullException.ThrowIfNull(definition);
        if (await engine.PlanAsync(definition, cancellation) is { Ready: false } plan)
        {
            throw new NotReadyException(plan.Checks);
        }

        await engine.DefineAsync(definition, by, cancellation, _ =>
            engine.Status(definition.Name) is null
                ? Task.CompletedTask
                : throw new RequestRefusedException($"There is a crossing {definition.Name} already.") { Remedy = "Choose another name." }
        );
        await engine.RunAsync(definition.Name, by, cancellation);
    }
}
