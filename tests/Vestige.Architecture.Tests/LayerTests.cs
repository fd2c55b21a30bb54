using System.Reflection;
using Vestige.Core.Positions;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Architecture.Tests;

/// <summary>
/// An arrow points to what may be used; there are no others. Each layer is an assembly, and the compiler notes in each the assemblies that
/// its code uses.
/// </summary>
public class LayerTests
{
    private const string Ours = "Vestige.";

    private static readonly IReadOnlyDictionary<string, Assembly> Layers = new[]
    {
        typeof(LogPosition).Assembly,
        typeof(ILogSource).Assembly,
        typeof(Connectors.StandIn.StandInDatabase).Assembly,
        typeof(Connectors.PostgreSql.PostgreSqlSource).Assembly,
        typeof(SpoolFiles.SqliteSpoolFiles).Assembly,
        typeof(Storage.VestigeStore).Assembly,
        typeof(Demo.Workload.CirculationWorkload).Assembly,
    }.ToDictionary(assembly => assembly.GetName().Name!, StringComparer.Ordinal);

    [Theory]
    [InlineData("Vestige.Core")]
    [InlineData("Vestige.Engine", "Vestige.Core")]
    [InlineData("Vestige.Connectors.StandIn", "Vestige.Core", "Vestige.Engine")]
    [InlineData("Vestige.Connectors.PostgreSql", "Vestige.Core", "Vestige.Engine")]
    [InlineData("Vestige.SpoolFiles", "Vestige.Core", "Vestige.Engine")]
    [InlineData("Vestige.Storage", "Vestige.Core")]
    [InlineData("Vestige.Demo", "Vestige.Core", "Vestige.Engine", "Vestige.Connectors.StandIn")]
    public void A_layer_uses_only_what_lies_below_it(string layer, params string[] below) =>
        Assert.Empty(UsedBy(Layers[layer]).Where(name => name.StartsWith(Ours, StringComparison.Ordinal)).Except(below));

    [Theory]
    [InlineData("Vestige.Core")]
    [InlineData("Vestige.Engine")]
    [InlineData("Vestige.Connectors.StandIn")]
    [InlineData("Vestige.Connectors.PostgreSql")]
    [InlineData("Vestige.SpoolFiles")]
    [InlineData("Vestige.Storage")]
    [InlineData("Vestige.Demo")]
    public void The_types_of_a_layer_bear_its_name(string layer) =>
        Assert.DoesNotContain(
            Layers[layer].GetTypes(),
            type =>
                type.Namespace is { } name
                && name.StartsWith(Ours, StringComparison.Ordinal)
                && !$"{name}.".StartsWith($"{layer}.", StringComparison.Ordinal)
        );

    [Fact]
    public void The_core_has_no_clock_no_files_and_no_log()
    {
        var used = UsedBy(Layers["Vestige.Core"]);
        Assert.All(used, name => Assert.StartsWith("System", name, StringComparison.Ordinal));
        Assert.DoesNotContain(used, name => name is "System.IO.FileSystem" or "System.Net.Sockets" or "System.Threading.Thread");
    }

    [Fact]
    public void The_engine_uses_no_driver_and_no_web() =>
        Assert.DoesNotContain(UsedBy(Layers["Vestige.Engine"]), name =>
            name.Contains("Sqlite", StringComparison.Ordinal)
            || name.Contains("AspNetCore", StringComparison.Ordinal)
            || name.Contains("EntityFramework", StringComparison.Ordinal)
        );

    private static List<string> UsedBy(Assembly assembly) => [.. assembly.GetReferencedAssemblies().Select(name => name.Name!)];
}
