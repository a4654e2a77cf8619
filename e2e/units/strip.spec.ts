import { expect, test } from "@playwright/test";
import type { Header, Stage, WalkProof } from "../../web/src/api/client";
import { decided, stripOf } from "../../web/src/lib/strip";

const header = (src: string, dst: string): Header => ({ src, dst, proto: "tcp", sport: 49152, dport: 443 });
const stage = (id: string, act: Stage["act"], h: Header, more: Partial<Stage> = {}, kind = "gateway"): Stage =>
  ({ at: { id, kind, title: `House ${id}`, party: "House" }, act, text: "", header: h, ...more }) as Stage;

test("each place stands once, there above and back below, and what only the way back meets stands where it does", () => {
  const [out, mapped] = [header("10.214.0.20", "10.208.1.10"), header("10.223.0.20", "10.208.1.10")];
  const [answer, home] = [header("10.208.1.10", "10.223.0.20"), header("10.208.1.10", "10.214.0.20")];
  const strip = stripOf({
    forward: [
      stage("desk", "sends", out, {}, "endpoint"),
      stage("near", "routes", out, { table: { losers: [] } }),
      stage("near", "maps source", mapped),
      stage("link", "enters", mapped, {}, "link"),
      stage("far", "routes", mapped),
      stage("logger", "delivers", mapped, {}, "endpoint"),
    ],
    reply: [
      stage("logger", "sends", answer, {}, "endpoint"),
      stage("other", "routes", answer),
      stage("near", "maps destination", home),
      stage("desk", "stops", home, {}, "endpoint"),
    ],
  } as unknown as WalkProof);
  expect(strip.map((n) => n.title)).toEqual(["desk", "near", "far", "other", "logger"]);
  expect(strip.map((n) => [Boolean(n.there), Boolean(n.back)])).toEqual([[true, true], [true, true], [true, false], [false, true], [true, true]]);
  const near = strip[1];
  expect(near?.by).toBe("House link");
  expect([near?.there?.in.src, near?.there?.out.src]).toEqual(["10.214.0.20", "10.223.0.20"]);
  expect(decided(near!.there!)).toEqual(["no usable route", "source translated"]);
  expect(strip[0]?.back?.stopped).toBe(true);
});
