using System.Text.Json;
using Vestige.Core.Crossings;
using Vestige.Web.Api;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>The description of the interface is complete, and its examples are of the types that it names.</summary>
public sealed class OpenApiTests(EmptyVestige empty) : IClassFixture<EmptyVestige>
{
    [Fact]
    public async Task Every_operation_says_what_it_does_what_it_takes_and_what_it_answers()
    {
        var document = await DocumentAsync();
        var lacking = new List<string>();
        var names = new HashSet<string>();
        foreach (var (path, method, operation) in Operations(document))
        {
            var name = operation.TryGetProperty("operationId", out var id) ? id.GetString()! : "";
            void Expect(bool holds, string what)
            {
                if (!holds)
                {
                    lacking.Add($"{method} {path}: {what}");
                }
            }

            Expect(name.Length > 0 && names.Add(name), "an id of its own");
            Expect(
                operation.TryGetProperty("summary", out _) && operation.TryGetProperty("description", out _),
                "a summary and a description"
            );
            Expect(operation.GetProperty("tags").GetArrayLength() == 1, "a tag");
            foreach (var parameter in operation.TryGetProperty("parameters", out var parameters) ? parameters.EnumerateArray() : [])
            {
                Expect(parameter.TryGetProperty("description", out _), $"a description of {parameter.GetProperty("name").GetString()}");
            }

            if (operation.TryGetProperty("requestBody", out var body))
            {
                Expect(
                    body.GetProperty("content").GetProperty("application/json").TryGetProperty("example", out _),
                    "an example of the body"
                );
            }

            foreach (var (status, response) in operation.GetProperty("responses").EnumerateObject().Select(one => (one.Name, one.Value)))
            {
                Expect(response.GetProperty("description").GetString() is { Length: > 0 }, $"what {status} means");
                foreach (var content in response.TryGetProperty("content", out var contents) ? contents.EnumerateObject() : [])
                {
                    Expect(content.Value.TryGetProperty("schema", out _), $"the schema of {status}");
                    Expect(
                        content.Value.TryGetProperty("example", out _) || content.Name is "application/yaml",
                        $"an example of {status} as {content.Name}"
                    );
                }

                Expect(
                    status[0] != '4' || response.GetProperty("content").TryGetProperty("application/problem+json", out _),
                    $"a problem document for {status}"
                );
            }
        }

        Assert.True(lacking.Count == 0, string.Join("\n", lacking));
        Assert.True(names.Count > 45);
        Assert.All(document.GetProperty("components").GetProperty("schemas").EnumerateObject(), schema =>
            Assert.DoesNotContain("Anonymous", schema.Name, StringComparison.Ordinal)
        );
        Assert.DoesNotContain(document.GetProperty("tags").EnumerateArray(), tag => !tag.TryGetProperty("description", out _));
    }

    [Fact]
    public async Task Versions_and_confirmations_are_described()
    {
        var document = await DocumentAsync();
        var crossing = document.GetProperty("paths").GetProperty("/api/v1/crossings/{name}");
        foreach (var method in new[] { "put", "delete" })
        {
            var header = Assert.Single(crossing.GetProperty(method).GetProperty("parameters").EnumerateArray(), parameter =>
                parameter.GetProperty("in").GetString() == "header"
            );
            Assert.Equal("If-Match", header.GetProperty("name").GetString());
            Assert.True(header.GetProperty("required").GetBoolean());
        }

        Assert.True(
            crossing.GetProperty("get").GetProperty("responses").GetProperty("200").GetProperty("headers").TryGetProperty("ETag", out _)
        );
        Assert.Contains(crossing.GetProperty("put").GetProperty("parameters").EnumerateArray(), parameter =>
            parameter.GetProperty("name").GetString() == "confirm"
        );
        var states = document
            .GetProperty("components")
            .GetProperty("schemas")
            .GetProperty("StatusDocument")
            .GetProperty("properties")
            .GetProperty("state")
            .GetProperty("enum")
            .EnumerateArray()
            .Select(state => state.GetString());
        Assert.Contains("catching up", states);
    }

    /// <summary>Nothing is in an example that its type does not have, and nothing is lacking that it must have.</summary>
    [Fact]
    public async Task Examples_are_of_the_types_that_are_named()
    {
        var document = await DocumentAsync();
        var read = 0;
        foreach (var (_, _, operation) in Operations(document))
        {
            var contents = operation.GetProperty("responses").EnumerateObject().SelectMany(response => ContentsOf(response.Value));
            foreach (
                var content in contents
                    .Concat(operation.TryGetProperty("requestBody", out var body) ? ContentsOf(body) : [])
                    .Where(one => one.Name.EndsWith("json", StringComparison.Ordinal))
            )
            {
                var example = content.Value.GetProperty("example").GetRawText();
                Assert.NotNull(JsonSerializer.Deserialize(example, TypeOf(content.Value.GetProperty("schema")), DefinitionJson.Options));
                read++;
            }
        }

        Assert.True(read > 300);
    }

    private static IEnumerable<(string Path, string Method, JsonElement Operation)> Operations(JsonElement document) =>
        document
            .GetProperty("paths")
            .EnumerateObject()
            .SelectMany(path => path.Value.EnumerateObject().Select(method => (path.Name, method.Name, method.Value)));

    private static IEnumerable<JsonProperty> ContentsOf(JsonElement message) =>
        message.TryGetProperty("content", out var contents) ? contents.EnumerateObject() : [];

    /// <summary>The type that a schema was made of.</summary>
    private static Type TypeOf(JsonElement schema)
    {
        if (schema.TryGetProperty("items", out var items))
        {
            return typeof(List<>).MakeGenericType(TypeOf(items));
        }

        var reference = schema.TryGetProperty("$ref", out var found)
            ? found
            : schema.GetProperty("oneOf").EnumerateArray().Single(one => one.TryGetProperty("$ref", out _)).GetProperty("$ref");
        var name = reference.GetString()!.Split('/')[^1];
        return new[] { typeof(DefinitionJson).Assembly, typeof(CrossingDefinition).Assembly }
            .SelectMany(assembly => assembly.GetTypes())
            .Single(type => type.Name == name);
    }

    private Task<JsonElement> DocumentAsync() => empty.Process.GetAsync("/openapi/v1.json");
}
