using CsCheck;
using Vestige.Core.Crossings;
using Vestige.Web.Definitions;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>Definitions as files: what is written is read back, and what is wrong is said with its place.</summary>
public sealed class DefinitionYamlTests
{
    private const string Good = """
        name: loans
        purpose: copy
        source: a
        target: b
        tables:
          rules:
            - take: circulation.*
            - leave: "*_tmp"
        apply:
          - tables: circulation.audit
            as: insertOnly
        """;

    private static readonly string[] Awkward =
    [
        "true",
        "no",
        "null",
        "~",
        "12",
        "1e3",
        "*",
        "*_tmp",
        "a: b",
        "- a",
        "# a",
        "'",
        "\"",
        " a ",
        "a\nb",
        "&a",
        "!a",
        "schema.Ärmel",
        "{}",
        "[a",
        "\u2028",
        "%",
        "@",
        "`",
    ];

    [Fact]
    public void A_file_is_read()
    {
        var read = DefinitionYaml.Read(Good);
        Assert.Empty(read.Problems);
        var definition = read.Definition!;
        Assert.Equal(("loans", "copy", "a", "b"), (definition.Name, definition.Purpose, definition.Source, definition.Target));
        Assert.Equal([new TableRule(Take: "circulation.*"), new TableRule(Leave: "*_tmp")], definition.Tables.Rules);
        Assert.Equal([new ApplyRule("circulation.audit", ApplyMode.InsertOnly)], definition.Apply);
        Assert.Null(definition.Start);
    }

    [Fact]
    public void JSON_is_YAML_too() =>
        Assert.Equal(
            "b",
            DefinitionYaml
                .Read("""{"name": "x", "purpose": "copy", "source": "a", "target": "b", "tables": {"rules": [{"take": "*"}]}}""")
                .Definition!.Target
        );

    [Theory]
    [InlineData("    - leave: \"*_tmp\"", "    - leaf: \"*_tmp\"", 8, 7, "tables.rules[1].leaf", "not a field", "take, leave")]
    [InlineData("target: b", "target: [b]", 4, 1, "target", "does not take this value", "a text")]
    [InlineData("target: b", "target: 12", 4, 1, "target", "does not take this value", "in quotes")]
    [InlineData("target: b\n", "", 1, 1, "document", "missing: target", "source, target")]
    [InlineData("as: insertOnly", "as: insert", 11, 5, "apply[0].as", "does not take this value", "upsert, insertOnly")]
    [InlineData("apply:\n  - tables", "apply:\n    tables", 9, 1, "apply", "does not take this value", "a list")]
    [InlineData("source: a", "source: &one a", 3, 9, "document", "Anchors", "YAML")]
    [InlineData("source: a", "name: again", 3, 1, "document", "", "YAML")]
    [InlineData("  rules:", "  rules: x", 7, 11, "document", "", "YAML")]
    public void What_is_wrong_is_said_with_its_place(
        string right,
        string wrong,
        int line,
        int column,
        string field,
        string found,
        string remedy
    )
    {
        Assert.Contains(right, Good, StringComparison.Ordinal);
        var read = DefinitionYaml.Read(Good.Replace(right, wrong, StringComparison.Ordinal));
        Assert.Null(read.Definition);
        var (problem, place) = Assert.Single(read.Problems);
        Assert.Equal((field, new DefinitionLocation(line, column)), (problem.Field, place));
        Assert.Contains(found, problem.Found, StringComparison.Ordinal);
        Assert.Contains(remedy, problem.Remedy, StringComparison.Ordinal);
        Assert.DoesNotContain("Vestige.Core", problem.Found + problem.Remedy, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("")]
    [InlineData("--- a\n--- b")]
    [InlineData("- name: x")]
    [InlineData("just words")]
    public void Another_document_is_refused(string text) =>
        Assert.Equal("document", Assert.Single(DefinitionYaml.Read(text).Problems).Problem.Field);

    [Fact]
    public void A_problem_found_later_has_the_place_of_its_field()
    {
        var read = DefinitionYaml.Read(Good);
        Assert.Equal(new DefinitionLocation(3, 1), read.Placed(new DefinitionProblem("source", "", "")).Place);
        Assert.Equal(new DefinitionLocation(8, 7), read.Placed(new DefinitionProblem("tables.rules[1].take", "", "")).Place);
        Assert.Equal(new DefinitionLocation(1, 1), read.Placed(new DefinitionProblem("start.existing", "", "")).Place);
    }

    [Fact]
    public void What_is_written_is_read_back()
    {
        var text = Gen.OneOf(Gen.String, Gen.Int[0, Awkward.Length - 1].Select(i => Awkward[i]));
        var rule = Gen.Select(text, Gen.Bool)
            .Select((pattern, takes) => takes ? new TableRule(Take: pattern) : new TableRule(Leave: pattern));
        var definition = Gen.Select(
                text,
                text,
                text,
                rule.List[0, 4],
                Gen.Select(text, Gen.Enum<ApplyMode>()).Select((tables, mode) => new ApplyRule(tables, mode)).List[0, 3],
                Gen.Bool
            )
            .Select(
                (name, source, target, rules, apply, empties) =>
                    new CrossingDefinition(
                        name,
                        "copy",
                        source,
                        target,
                        new TableRules(rules),
                        empties ? new StartOptions(ExistingRows.Empty) : null,
                        apply.Count == 0 ? null : apply
                    )
                    {
                        SchemaChanges = apply.Count == 0 ? null : [.. apply.Select(OnChange)],
                    }
            );
        definition.Sample(written =>
        {
            var read = DefinitionYaml.Read(DefinitionYaml.Write(written));
            Assert.Empty(read.Problems);
            Assert.Equal(Shown(written), Shown(read.Definition!));
        });
    }

    private static SchemaChangeRule OnChange(ApplyRule rule) => new(rule.Tables, (SchemaChangeAction)((int)rule.As % 3));

    private static string Shown(CrossingDefinition definition) => System.Text.Json.JsonSerializer.Serialize(definition);
}
