using ArchUnitNET.Domain;
using ArchUnitNET.Fluent;
using ArchUnitNET.Loader;
using Vestige.Core.Positions;
using Vestige.Engine.Ports;
using Xunit;
using static ArchUnitNET.Fluent.ArchRuleDefinition;

namespace Vestige.Architecture.Tests;

/// <summary>An arrow points to what may be used; there are no others.</summary>
public class LayerTests
{
    private static readonly ArchUnitNET.Domain.Architecture All = new ArchLoader()
        .LoadAssemblies(
            typeof(LogPosition).Assembly,
            typeof(ILogSource).Assembly,
            typeof(Connectors.StandIn.StandInDatabase).Assembly,
            typeof(Connectors.PostgreSql.PostgreSqlSource).Assembly,
            typeof(SpoolFiles.SqliteSpoolFiles).Assembly,
            typeof(Storage.VestigeStore).Assembly,
            typeof(Demo.Workload.CirculationWorkload).Assembly,
            typeof(Program).Assembly
        )
        .Build();

    [Theory]
    [InlineData("Vestige.Core", "Vestige.Engine|Vestige.Connectors|Vestige.SpoolFiles|Vestige.Storage|Vestige.Demo|Vestige.Web")]
    [InlineData("Vestige.Engine", "Vestige.Connectors|Vestige.SpoolFiles|Vestige.Storage|Vestige.Demo|Vestige.Web")]
    [InlineData("Vestige.Connectors.StandIn", "Vestige.Connectors.PostgreSql|Vestige.SpoolFiles|Vestige.Storage|Vestige.Demo|Vestige.Web")]
    [InlineData("Vestige.Connectors.PostgreSql", "Vestige.Connectors.StandIn|Vestige.SpoolFiles|Vestige.Storage|Vestige.Demo|Vestige.Web")]
    [InlineData("Vestige.SpoolFiles", "Vestige.Connectors|Vestige.Storage|Vestige.Demo|Vestige.Web")]
    [InlineData("Vestige.Storage", "Vestige.Engine|Vestige.Connectors|Vestige.SpoolFiles|Vestige.Demo|Vestige.Web")]
    [InlineData("Vestige.Demo", "Vestige.SpoolFiles|Vestige.Storage|Vestige.Web")]
    public void A_layer_uses_only_what_lies_below_it(string layer, string forbidden) =>
        AssertHolds(
            Types()
                .That()
                .ResideInNamespaceMatching($"^{layer}(\\.|$)")
                .Should()
                .NotDependOnAny(Types().That().ResideInNamespaceMatching($"^({forbidden})(\\.|$)"))
        );

    [Fact]
    public void The_core_has_no_clock_no_files_and_no_log()
    {
        var core = typeof(LogPosition).Assembly;
        Assert.All(core.GetReferencedAssemblies(), name => Assert.StartsWith("System", name.Name, StringComparison.Ordinal));
        Assert.DoesNotContain(core.GetReferencedAssemblies(), name =>
            name.Name is "System.IO.FileSystem" or "System.Net.Sockets" or "System.Threading.Thread"
        );
    }

    [Fact]
    public void The_engine_uses_no_driver_and_no_web()
    {
        var names = typeof(ILogSource).Assembly.GetReferencedAssemblies().Select(name => name.Name).ToList();
        Assert.DoesNotContain(names, name =>
            name!.Contains("Sqlite", StringComparison.Ordinal)
            || name.Contains("AspNetCore", StringComparison.Ordinal)
            || name.Contains("EntityFramework", StringComparison.Ordinal)
        );
    }

    private static void AssertHolds(IArchRule rule)
    {
        var broken = rule.Evaluate(All).Where(result => !result.Passed).Select(result => result.Description).ToList();
        Assert.True(broken.Count == 0, string.Join(Environment.NewLine, broken));
    }
}
