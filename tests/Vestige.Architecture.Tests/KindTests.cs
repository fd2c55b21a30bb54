using System.Text.RegularExpressions;
using Vestige.Connectors.PostgreSql;
using Vestige.Connectors.StandIn;
using Vestige.Core.Connections;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Architecture.Tests;

/// <summary>Kinds of connection describe themselves, and nobody else knows which there are.</summary>
public partial class KindTests
{
    /// <summary>
    /// Where the parts are put together, and the demo is made. The stand-ins for webhooks and mail of alerts are no connections.
    /// </summary>
    private static readonly string[] MayName = ["Program.cs", "Hosting/DemoSetup.cs"];

    public static TheoryData<IConnectorKind> Kinds =>
        [
            new StandInKind(name => Path.Combine(Path.GetTempPath(), name), TimeProvider.System),
            new PostgreSqlKind("tests", TimeProvider.System),
        ];

    [Theory]
    [MemberData(nameof(Kinds), DisableDiscoveryEnumeration = true)]
    public async Task A_kind_claims_exactly_what_its_connectors_have_ports_for(IConnectorKind kind)
    {
        await using var connector = kind.Open(new ConnectorContext("any", SomeSettings(kind), new Dictionary<string, string>()));
        Assert.Equal(Capabilities.Of(connector).Order(), kind.Can.Order());
    }

    [Theory]
    [MemberData(nameof(Kinds), DisableDiscoveryEnumeration = true)]
    public void A_kind_describes_itself(IConnectorKind kind)
    {
        Assert.Matches("^[a-z0-9-]+$", kind.Kind);
        Assert.NotEmpty(kind.Title);
        Assert.NotEmpty(kind.Describe(SomeSettings(kind)));
        Assert.Equal(kind.Fields.Count, kind.Fields.Select(field => field.Name).Distinct().Count());
        Assert.All(kind.Fields, field => Assert.Equal(field.Type == SettingType.Choice, field.Choices.Count > 0));
        Assert.Empty(SettingRules.Check(kind.Fields, SomeSettings(kind), secret: null));
        Assert.Empty(kind.Check(SomeSettings(kind)));
    }

    [Theory]
    [InlineData("Vestige.Core")]
    [InlineData("Vestige.Engine")]
    [InlineData("Vestige.Web")]
    public void No_kind_is_named_outside_its_own_project(string project)
    {
        var root = Path.Combine(Sources.Root, "src", project);
        var named = Sources
            .In($"src/{project}", ".cs", ".cshtml", ".js")
            .Select(file => Path.GetRelativePath(root, file))
            .Where(file => !MayName.Contains(file) && !IsOfAlerts(file))
            .SelectMany(file =>
                File.ReadLines(Path.Combine(root, file))
                    .Where(line => !IsComment(line) && KindName().IsMatch(line))
                    .Select(line => $"{file}: {line.Trim()}")
            )
            .ToList();
        Assert.True(named.Count == 0, string.Join(Environment.NewLine, named));
    }

    private static bool IsOfAlerts(string file) =>
        file.Contains("Alert", StringComparison.Ordinal) || file.EndsWith("StandInsDocument.cs", StringComparison.Ordinal);

    /// <summary>What has to be given, and nothing else.</summary>
    private static Dictionary<string, string> SomeSettings(IConnectorKind kind) =>
        kind
            .Fields.Where(field => field is { Required: true, IsSecret: false })
            .ToDictionary(field => field.Name, field => field.Default ?? "x");

    private static bool IsComment(string line) =>
        line.TrimStart() is var text
        && (text.StartsWith("//", StringComparison.Ordinal) || text.StartsWith("@*", StringComparison.Ordinal));

    [GeneratedRegex(
        @"\b[Ss]tand-ins?\b|StandIns?([A-Z]|\b)|[Pp]ostgre[Ss]|[Mm]aria[Dd][Bb]|[Mm]y[Ss][Qq][Ll]",
        RegexOptions.NonBacktracking | RegexOptions.ExplicitCapture
    )]
    private static partial Regex KindName();
}
