# Made by make clients from docs/openapi.json; do not edit.


class Operations:
    """A method for each operation: what is in the path first, queries and headers by name."""

    def activity(self, *, limit=None, cursor=None, project=None, subject=None):
        "What happened, newest first, with comments. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/activity", query={"limit": limit, "cursor": cursor, "project": project, "subject": subject})

    def list_alerts(self, *, limit=None, cursor=None, state=None, endpoint=None):
        "List alerts, newest first. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/alerts", query={"limit": limit, "cursor": cursor, "state": state, "endpoint": endpoint})

    def show_alert(self, alert):
        "Show an alert. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/alerts/{self.quoted(alert)}")

    def handle_alert(self, alert, body=None):
        "Acknowledge or resolve an alert. Needs the permission \"handle\" in the project that it is about."
        return self.call("POST", f"/api/v1/alerts/{self.quoted(alert)}", body=body)

    def search_audit(self, *, limit=None, cursor=None, text=None, kind=None, actor=None, subject=None, project=None, after=None, until=None, within=None):
        "Search the record, newest first. Needs the permission \"audit\" in the project that it is about."
        return self.call("GET", "/api/v1/audit", query={"limit": limit, "cursor": cursor, "text": text, "kind": kind, "actor": actor, "subject": subject, "project": project, "after": after, "until": until, "within": within})

    def audit_checkpoint(self):
        "A signed statement of what the last line is, to be kept elsewhere. Needs the permission \"audit\" for the whole service."
        return self.call("GET", "/api/v1/audit/checkpoint")

    def export_audit(self, *, text=None, kind=None, actor=None, subject=None, project=None, after=None, until=None, within=None):
        "Export what a search finds, oldest first, as CloudEvents, one JSON object a line. Needs the permission \"audit\" in the project that it is about."
        return self.call("GET", "/api/v1/audit/export", query={"text": text, "kind": kind, "actor": actor, "subject": subject, "project": project, "after": after, "until": until, "within": within})

    def list_searches(self):
        "The searches that you keep and those that others share. Needs the permission \"audit\" in the project that it is about."
        return self.call("GET", "/api/v1/audit/searches")

    def save_search(self, body=None, *, idempotency_key=None):
        "Keep a search under a name. Needs the permission \"audit\" in the project that it is about."
        return self.call("POST", "/api/v1/audit/searches", headers={"Idempotency-Key": idempotency_key}, body=body)

    def remove_search(self, search):
        "Forget a search that you keep. Needs the permission \"audit\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/audit/searches/{self.quoted(search)}")

    def verify_audit(self, body=None):
        "Read the whole record and tell where it is not what was written. Needs the permission \"audit\" for the whole service."
        return self.call("POST", "/api/v1/audit/verify", body=body)

    def backup(self):
        "Everything that is kept, as a tar archive. Needs the permission \"administer\" for the whole service."
        return self.call("GET", "/api/v1/backup")

    def find(self, *, limit=None, cursor=None, text=None, project=None, model=None, task=None, owner=None, rung=None, label=None, tag=None, format=None, licence=None, placed_in=None, answering=None, data=None, metric=None, vetted=None, max_age=None, min_age=None, sort=None):
        "Search the versions of all models. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/catalogue", query={"limit": limit, "cursor": cursor, "text": text, "project": project, "model": model, "task": task, "owner": owner, "rung": rung, "label": label, "tag": tag, "format": format, "licence": licence, "placed_in": placed_in, "answering": answering, "data": data, "metric": metric, "vetted": vetted, "max_age": max_age, "min_age": min_age, "sort": sort})

    def vocabulary(self):
        "What a search of the catalogue can name. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/catalogue/vocabulary")

    def collect(self, body=None):
        "Remove the files that no version needs. Needs the permission \"administer\" for the whole service."
        return self.call("POST", "/api/v1/collect", body=body)

    def comment(self, body=None, *, idempotency_key=None):
        "Comment on a line of the record, or on a subject; @NAME tells someone. Needs the permission \"comment\" in the project that it is about."
        return self.call("POST", "/api/v1/comments", headers={"Idempotency-Key": idempotency_key}, body=body)

    def list_data_sets(self, *, limit=None, cursor=None, name=None):
        "List the newest revision of every data set, or all revisions of one. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/data-sets", query={"limit": limit, "cursor": cursor, "name": name})

    def add_data_set(self, body=None, *, idempotency_key=None):
        "Add a revision of a data set; the same content gives the revision that is there. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", "/api/v1/data-sets", headers={"Idempotency-Key": idempotency_key}, body=body)

    def show_data_set(self, data):
        "Show a revision of a data set. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/data-sets/{self.quoted(data)}")

    def send_again(self, delivery):
        "Send a delivery again at once. Needs the permission \"manage\" in the project that it is about."
        return self.call("POST", f"/api/v1/deliveries/{self.quoted(delivery)}/again")

    def list_endpoints(self, *, limit=None, cursor=None):
        "List endpoints with their splits in force. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/endpoints", query={"limit": limit, "cursor": cursor})

    def add_endpoint(self, body=None, *, idempotency_key=None):
        "Add an endpoint. Needs the permission \"route\" in the project that it is about."
        return self.call("POST", "/api/v1/endpoints", headers={"Idempotency-Key": idempotency_key}, body=body)

    def remove_endpoint(self, endpoint, *, reason=None):
        "Take away an endpoint that nobody calls. Needs the permission \"route\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/endpoints/{self.quoted(endpoint)}", query={"reason": reason})

    def show_endpoint(self, endpoint):
        "Show an endpoint; its ETag is the number of the split in force. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}")

    def edit_endpoint(self, endpoint, body=None):
        "Change what is said about an endpoint and what it demands: description, rung, margins. Needs the permission \"route\" in the project that it is about."
        return self.call("PATCH", f"/api/v1/endpoints/{self.quoted(endpoint)}", body=body)

    def endpoint_accuracy(self, endpoint, *, window=None, until=None):
        "How right the versions of an endpoint were, as far as the truth is known. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/accuracy", query={"window": window, "until": until})

    def list_agents(self, endpoint):
        "The agents that report what answers elsewhere for an endpoint. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/agents")

    def agent_batch(self, endpoint, agent, body=None):
        "Report, as an agent, what versions did; a batch that is sent again changes nothing. Needs the permission \"report\" in the project that it is about."
        return self.call("POST", f"/api/v1/endpoints/{self.quoted(endpoint)}/agents/{self.quoted(agent)}/batches", body=body)

    def agent_met(self, endpoint, agent, body=None):
        "Ask, as an agent, which versions there are and on which bins columns are counted; columns that have none yet get those that are proposed. Needs the permission \"report\" in the project that it is about."
        return self.call("POST", f"/api/v1/endpoints/{self.quoted(endpoint)}/agents/{self.quoted(agent)}/met", body=body)

    def back(self, endpoint, body=None, *, if_match=None, idempotency_key=None):
        "Return to an earlier split. Needs the permission \"route\" in the project that it is about."
        return self.call("POST", f"/api/v1/endpoints/{self.quoted(endpoint)}/back", headers={"If-Match": if_match, "Idempotency-Key": idempotency_key}, body=body)

    def list_callers(self, endpoint):
        "List the programs that have a key to an endpoint. Needs the permission \"route\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/callers")

    def add_caller(self, endpoint, body=None, *, idempotency_key=None):
        "Give a program a key to an endpoint, which from then on needs one; it is shown once. Needs the permission \"route\" in the project that it is about."
        return self.call("POST", f"/api/v1/endpoints/{self.quoted(endpoint)}/callers", headers={"Idempotency-Key": idempotency_key}, body=body)

    def remove_caller(self, endpoint, caller, *, reason=None):
        "Take a program's key away. Needs the permission \"route\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/endpoints/{self.quoted(endpoint)}/callers/{self.quoted(caller)}", query={"reason": reason})

    def endpoint_calls(self, endpoint, *, window=None):
        "Who called an endpoint, and how much, by the names of their keys or those that they give. Needs the permission \"route\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/calls", query={"window": window})

    def compare_versions(self, endpoint, *, incumbent=None, candidate=None, split=None, window=None, until=None):
        "Versions that answer for an endpoint beside their incumbent. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/compare", query={"incumbent": incumbent, "candidate": candidate, "split": split, "window": window, "until": until})

    def list_contracts(self, endpoint):
        "List the contracts of an endpoint, newest first. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/contracts")

    def make_contract(self, endpoint, body=None, *, idempotency_key=None):
        "Decide a new contract; it comes into force with the next split whose versions keep it. Needs the permission \"route\" in the project that it is about."
        return self.call("POST", f"/api/v1/endpoints/{self.quoted(endpoint)}/contracts", headers={"Idempotency-Key": idempotency_key}, body=body)

    def contract_schema(self, endpoint, number, *, side=None):
        "A contract as JSON Schema, of requests or of answers. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/contracts/{self.quoted(number)}/schema", query={"side": side})

    def custom_signals(self, endpoint, *, window=None, until=None):
        "The custom signals of an endpoint, with what was reported of each version. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/custom-signals", query={"window": window, "until": until})

    def remove_custom_signal(self, endpoint, signal, *, reason=None):
        "Take a custom signal of an endpoint away. Needs the permission \"route\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/endpoints/{self.quoted(endpoint)}/custom-signals/{self.quoted(signal)}", query={"reason": reason})

    def set_custom_signal(self, endpoint, signal, body=None):
        "Say what a custom signal of an endpoint is; it is there from then on. Needs the permission \"route\" in the project that it is about."
        return self.call("PUT", f"/api/v1/endpoints/{self.quoted(endpoint)}/custom-signals/{self.quoted(signal)}", body=body)

    def endpoint_drift(self, endpoint, *, window=None, until=None, version=None, first=None, against=None):
        "How far every column is from a reference, an earlier time or main, ranked, and over time. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/drift", query={"window": window, "until": until, "version": version, "first": first, "against": against})

    def explain_route(self, endpoint, body=None):
        "Where a request would go now, and by which rule. Needs the permission \"read\" in the project that it is about."
        return self.call("POST", f"/api/v1/endpoints/{self.quoted(endpoint)}/explain", body=body)

    def endpoint_history(self, endpoint, *, limit=None, cursor=None, at=None):
        "What served when: every split with its cause, how long it was in force, what it served, how it ended. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/history", query={"limit": limit, "cursor": cursor, "at": at})

    def set_keyed(self, endpoint, body=None):
        "Say whether callers of an endpoint need a key. Needs the permission \"route\" in the project that it is about."
        return self.call("PUT", f"/api/v1/endpoints/{self.quoted(endpoint)}/keyed", body=body)

    def mute(self, endpoint, body=None):
        "Raise no alerts of watches about a subject for a time. Needs the permission \"handle\" in the project that it is about."
        return self.call("POST", f"/api/v1/endpoints/{self.quoted(endpoint)}/mutes", body=body)

    def unmute(self, endpoint, subject, *, reason=None):
        "Raise alerts about a subject again. Needs the permission \"handle\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/endpoints/{self.quoted(endpoint)}/mutes/{self.quoted(subject)}", query={"reason": reason})

    def endpoint_now(self, endpoint):
        "What the lanes of an endpoint do now. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/now")

    def list_outcomes(self, endpoint, *, window=None, version=None, output=None, worst=None, limit=None):
        "Single predictions with their truth, and in which segments of the inputs they are worse. Needs the permission \"inspect\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/outcomes", query={"window": window, "version": version, "output": output, "worst": worst, "limit": limit})

    def tell_outcomes(self, endpoint, body=None):
        "Tell the truth of earlier predictions, by the ids of requests, or keys and time; it may be told again. Needs the permission \"report\" in the project that it is about."
        return self.call("POST", f"/api/v1/endpoints/{self.quoted(endpoint)}/outcomes", body=body)

    def report(self, endpoint, body=None):
        "Report values of custom signals, of requests by their ids, or of a version at a time; told again they count once. Needs the permission \"report\" in the project that it is about."
        return self.call("POST", f"/api/v1/endpoints/{self.quoted(endpoint)}/reports", body=body)

    def start_rollout(self, endpoint, body=None, *, idempotency_key=None):
        "Move an endpoint to another version by a plan. Needs the permission \"route\" in the project that it is about."
        return self.call("POST", f"/api/v1/endpoints/{self.quoted(endpoint)}/rollouts", headers={"Idempotency-Key": idempotency_key}, body=body)

    def preview_rollout(self, endpoint, body=None):
        "What a rollout would do: how long it takes, what harm is risked, what is lacking. Needs the permission \"read\" in the project that it is about."
        return self.call("POST", f"/api/v1/endpoints/{self.quoted(endpoint)}/rollouts/preview", body=body)

    def endpoint_series(self, endpoint, *, window=None, until=None, after=None):
        "What an endpoint did over time, with what happened to it. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/series", query={"window": window, "until": until, "after": after})

    def list_splits(self, endpoint, *, limit=None, cursor=None):
        "List the splits of an endpoint, newest first. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/splits", query={"limit": limit, "cursor": cursor})

    def split(self, endpoint, body=None, *, if_match=None, idempotency_key=None):
        "Make a new split and put it in force. Needs the permission \"route\" in the project that it is about."
        return self.call("POST", f"/api/v1/endpoints/{self.quoted(endpoint)}/splits", headers={"If-Match": if_match, "Idempotency-Key": idempotency_key}, body=body)

    def list_watches(self, endpoint):
        "Where the watches of an endpoint stand, and what people say about them; its ETag is their revision. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/endpoints/{self.quoted(endpoint)}/watches")

    def set_watch(self, endpoint, body=None):
        "Have one signal watched otherwise, in place of how it was before. Needs the permission \"route\" in the project that it is about."
        return self.call("POST", f"/api/v1/endpoints/{self.quoted(endpoint)}/watches", body=body)

    def put_watches(self, endpoint, body=None, *, if_match=None):
        "Have an endpoint watched as a YAML file says. Needs the permission \"route\" in the project that it is about."
        return self.call("PUT", f"/api/v1/endpoints/{self.quoted(endpoint)}/watches", headers={"If-Match": if_match}, body=body)

    def remove_watch(self, endpoint, watch, *, reason=None):
        "Have a signal watched as usual again, or not at all if that is usual. Needs the permission \"route\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/endpoints/{self.quoted(endpoint)}/watches/{self.quoted(watch)}", query={"reason": reason})

    def list_environments(self, *, limit=None, cursor=None):
        "List the places where versions run. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/environments", query={"limit": limit, "cursor": cursor})

    def add_environment(self, body=None, *, idempotency_key=None):
        "Add a place where versions run. Needs the permission \"manage\" in the project that it is about."
        return self.call("POST", "/api/v1/environments", headers={"Idempotency-Key": idempotency_key}, body=body)

    def remove_environment(self, environment, *, reason=None):
        "Take away an environment in which nothing runs, with its headers. Needs the permission \"manage\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/environments/{self.quoted(environment)}", query={"reason": reason})

    def edit_environment(self, environment, body=None):
        "Change an environment: its name, whose it is, with whom it is shared, which addresses are allowed. Needs the permission \"manage\" in the project that it is about."
        return self.call("PATCH", f"/api/v1/environments/{self.quoted(environment)}", body=body)

    def list_headers(self, environment):
        "List the headers that all model servers of an environment are sent, without their values. Needs the permission \"manage\" in the project that it is about."
        return self.call("GET", f"/api/v1/environments/{self.quoted(environment)}/headers")

    def remove_header(self, environment, header):
        "Take a header away. Needs the permission \"manage\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/environments/{self.quoted(environment)}/headers/{self.quoted(header)}")

    def set_header(self, environment, header, body=None):
        "Set a header that all model servers of an environment are sent; its value is never shown. Needs the permission \"manage\" in the project that it is about."
        return self.call("PUT", f"/api/v1/environments/{self.quoted(environment)}/headers/{self.quoted(header)}", body=body)

    def show_evidence(self, evidence):
        "Show a report. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/evidence/{self.quoted(evidence)}")

    def get_evidence(self, evidence):
        "Get the file of a report. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/evidence/{self.quoted(evidence)}/file")

    def explain_versions(self, body=None):
        "Say which inputs moved the predictions of versions for one row, and how sure that is: Shapley values by sampling; no lane counts what they are asked. Needs the permission \"inspect\" in the project that it is about."
        return self.call("POST", "/api/v1/explain", body=body)

    def gateway_address(self):
        "Say how callers reach the gateway. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/gateway")

    def glossary(self):
        "What the words mean. For whoever is signed in."
        return self.call("GET", "/api/v1/glossary")

    def list_incidents(self, *, limit=None, cursor=None, endpoint=None, version=None, state=None):
        "List incidents without their reports, newest first. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/incidents", query={"limit": limit, "cursor": cursor, "endpoint": endpoint, "version": version, "state": state})

    def show_incident(self, incident):
        "Show an incident with its report, and as a document. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/incidents/{self.quoted(incident)}")

    def handle_incident(self, incident, body=None):
        "Add a note, a cause or something to do to an incident, or close it. Needs the permission \"handle\" in the project that it is about."
        return self.call("POST", f"/api/v1/incidents/{self.quoted(incident)}", body=body)

    def list_jobs(self, *, limit=None, cursor=None, version=None):
        "List jobs, newest first. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/jobs", query={"limit": limit, "cursor": cursor, "version": version})

    def check(self, body=None, *, asked=None, environment=None, name=None, idempotency_key=None):
        "Ask a version where it is deployed what must come back: its known answers, and the cases in the body, or those of its model; the report becomes evidence of the version. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", "/api/v1/jobs/check", query={"asked": asked, "environment": environment, "name": name}, headers={"Idempotency-Key": idempotency_key}, body=body)

    def evaluate(self, body=None, *, asked=None, environment=None, name=None, data=None, from_=None, keep=None, batch=None, parallel=None, target=None, output=None, weight=None, segments=None, against=None, at_most=None, at_least=None, idempotency_key=None):
        "Ask a version about all rows of a table, the body, and hold the answers against a column with the truth; the report becomes evidence of the version. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", "/api/v1/jobs/evaluate", query={"asked": asked, "environment": environment, "name": name, "data": data, "from": from_, "keep": keep, "batch": batch, "parallel": parallel, "target": target, "output": output, "weight": weight, "segments": segments, "against": against, "at_most": at_most, "at_least": at_least}, headers={"Idempotency-Key": idempotency_key}, body=body)

    def importance(self, body=None, *, asked=None, environment=None, name=None, data=None, from_=None, keep=None, batch=None, parallel=None, target=None, output=None, class_=None, rows=None, rounds=None, idempotency_key=None):
        "Find out on which inputs a version relies, over the rows of a table, the body: permutation importance, partial dependence and individual curves; the report becomes evidence of the version. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", "/api/v1/jobs/importance", query={"asked": asked, "environment": environment, "name": name, "data": data, "from": from_, "keep": keep, "batch": batch, "parallel": parallel, "target": target, "output": output, "class": class_, "rows": rows, "rounds": rounds}, headers={"Idempotency-Key": idempotency_key}, body=body)

    def replay(self, body=None, *, idempotency_key=None):
        "Ask a version again what callers asked another before, from the log of requests of an endpoint; the report becomes evidence of the version. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", "/api/v1/jobs/replay", headers={"Idempotency-Key": idempotency_key}, body=body)

    def robustness(self, body=None, *, idempotency_key=None):
        "Ask a version when things are not as they should be: missing, extreme and unknown values, noise, other units, many rows and many requests at once; the report becomes evidence of the version. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", "/api/v1/jobs/robustness", headers={"Idempotency-Key": idempotency_key}, body=body)

    def score(self, body=None, *, asked=None, environment=None, name=None, data=None, from_=None, keep=None, batch=None, parallel=None, idempotency_key=None):
        "Ask a version, or whoever answers for an endpoint, for predictions of all rows of a table: the body; the job goes on by itself. Needs the permission \"inspect\" in the project that it is about."
        return self.call("POST", "/api/v1/jobs/score", query={"asked": asked, "environment": environment, "name": name, "data": data, "from": from_, "keep": keep, "batch": batch, "parallel": parallel}, headers={"Idempotency-Key": idempotency_key}, body=body)

    def show_job(self, job):
        "Show a job, and how far it is. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/jobs/{self.quoted(job)}")

    def job_answers(self, job, *, format=None):
        "Get what a job has found so far, one row for each that was answered. Needs the permission \"inspect\" in the project that it is about."
        return self.call("GET", f"/api/v1/jobs/{self.quoted(job)}/answers", query={"format": format})

    def job_log(self, job):
        "Show what a job did and met, line by line. Needs the permission \"inspect\" in the project that it is about."
        return self.call("GET", f"/api/v1/jobs/{self.quoted(job)}/log")

    def job_put_aside(self, job, *, format=None):
        "Get the rows that a job has put aside so far, each with its reason. Needs the permission \"inspect\" in the project that it is about."
        return self.call("GET", f"/api/v1/jobs/{self.quoted(job)}/put-aside", query={"format": format})

    def resume_job(self, job, body=None):
        "Take a job up again that was stopped or failed, where it was. Needs the permission \"inspect\" in the project that it is about."
        return self.call("POST", f"/api/v1/jobs/{self.quoted(job)}/resume", body=body)

    def stop_job(self, job, body=None):
        "Stop a job; it can be taken up again. Needs the permission \"inspect\" in the project that it is about."
        return self.call("POST", f"/api/v1/jobs/{self.quoted(job)}/stop", body=body)

    def line_up(self, *, versions=None):
        "Any number of versions in one table. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/lineup", query={"versions": versions})

    def inbox(self, *, limit=None, cursor=None, unread=None):
        "Your notices, newest first. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("GET", "/api/v1/me/inbox", query={"limit": limit, "cursor": cursor, "unread": unread})

    def mark_read(self, body=None):
        "Mark a notice as read, with all before it unless alone. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("POST", "/api/v1/me/inbox/read", body=body)

    def change_password(self, body=None):
        "Choose another password; ends your other sessions, and your tokens if you say so. For whoever is signed in to the console."
        return self.call("PUT", "/api/v1/me/password", body=body)

    def show_preferences(self):
        "What reaches you, and how. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("GET", "/api/v1/me/preferences")

    def set_preferences(self, body=None):
        "Choose what reaches you, and how. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("PUT", "/api/v1/me/preferences", body=body)

    def use_project(self, body=None):
        "Choose where what you add goes when you name no project. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("PUT", "/api/v1/me/project", body=body)

    def end_other_sessions(self):
        "Sign out everywhere else. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("DELETE", "/api/v1/me/sessions")

    def list_sessions(self):
        "Where you are signed in to the console. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("GET", "/api/v1/me/sessions")

    def list_models(self, *, limit=None, cursor=None, project=None, task=None, owner=None, tag=None, text=None, vetted=None):
        "List models by name. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/models", query={"limit": limit, "cursor": cursor, "project": project, "task": task, "owner": owner, "tag": tag, "text": text, "vetted": vetted})

    def remove_model(self, model, *, reason=None):
        "Take away a model that has no versions; its name is free again. Needs the permission \"manage\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/models/{self.quoted(model)}", query={"reason": reason})

    def show_model(self, model):
        "Show a model. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/models/{self.quoted(model)}")

    def edit_model(self, model, body=None):
        "Change what may change of a model: description, owner, tags, properties, its name, its project. Needs the permission \"register\" in the project that it is about."
        return self.call("PATCH", f"/api/v1/models/{self.quoted(model)}", body=body)

    def remove_cases(self, model, *, reason=None):
        "Take the cases of a model away. Needs the permission \"manage\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/models/{self.quoted(model)}/cases", query={"reason": reason})

    def show_cases(self, model):
        "Show what every version of a model must answer. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/models/{self.quoted(model)}/cases")

    def set_cases(self, model, body=None):
        "Set what every version of a model must answer, a YAML file; in the place of what was set before. Needs the permission \"manage\" in the project that it is about."
        return self.call("PUT", f"/api/v1/models/{self.quoted(model)}/cases", body=body)

    def list_labels(self, model, *, limit=None, cursor=None):
        "List the labels of a model. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/models/{self.quoted(model)}/labels", query={"limit": limit, "cursor": cursor})

    def remove_label(self, model, label, *, reason=None):
        "Take a label away. Needs the permission \"register\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/models/{self.quoted(model)}/labels/{self.quoted(label)}", query={"reason": reason})

    def put_label(self, model, label, body=None):
        "Put a label on a version, from wherever it was. Needs the permission \"register\" in the project that it is about."
        return self.call("PUT", f"/api/v1/models/{self.quoted(model)}/labels/{self.quoted(label)}", body=body)

    def remove_standing(self, model, *, reason=None):
        "Have new versions of a model evaluated on nothing. Needs the permission \"manage\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/models/{self.quoted(model)}/standing", query={"reason": reason})

    def show_standing(self, model):
        "Show what every new version of a model is evaluated on, and how far each is. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/models/{self.quoted(model)}/standing")

    def set_standing(self, model, body=None, *, data=None, from_=None, name=None, target=None, output=None, weight=None, segments=None, against=None, at_most=None, at_least=None, reason=None):
        "Have every new version of a model evaluated, on a table that is the body, a data set, or an address; in the place of what was set before. Needs the permission \"manage\" in the project that it is about."
        return self.call("PUT", f"/api/v1/models/{self.quoted(model)}/standing", query={"data": data, "from": from_, "name": name, "target": target, "output": output, "weight": weight, "segments": segments, "against": against, "at_most": at_most, "at_least": at_least, "reason": reason}, body=body)

    def list_versions(self, model, *, limit=None, cursor=None):
        "List the versions of a model, newest first, without cards and signatures. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/models/{self.quoted(model)}/versions", query={"limit": limit, "cursor": cursor})

    def vet_model(self, model, body=None):
        "Mark a model as vetted, a place to start from, or take the mark away. Needs the permission \"sign\" in the project that it is about."
        return self.call("POST", f"/api/v1/models/{self.quoted(model)}/vetting", body=body)

    def now(self):
        "What all endpoints do now. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/now")

    def list_people(self, *, limit=None, cursor=None):
        "List the people and robots that you may know of. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/people", query={"limit": limit, "cursor": cursor})

    def add_person(self, body=None):
        "Add a person, with a link that lets them in once, or a robot. Needs the permission \"manage\" in the project that it is about."
        return self.call("POST", "/api/v1/people", body=body)

    def edit_person(self, person, body=None):
        "Change an account: its e-mail address, or whether it may sign in. Needs the permission \"administer\" for the whole service."
        return self.call("PATCH", f"/api/v1/people/{self.quoted(person)}", body=body)

    def invite(self, person, *, idempotency_key=None):
        "Make a new link that lets a person in once, to choose a password. Needs the permission \"administer\" for the whole service."
        return self.call("POST", f"/api/v1/people/{self.quoted(person)}/invitation", headers={"Idempotency-Key": idempotency_key})

    def take_role(self, person, project, role, *, reason=None):
        "Take a role in a project away from someone. Needs the permission \"manage\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/people/{self.quoted(person)}/memberships/{self.quoted(project)}/{self.quoted(role)}", query={"reason": reason})

    def give_role(self, person, project, role):
        "Give someone a role in a project. Needs the permission \"manage\" in the project that it is about."
        return self.call("PUT", f"/api/v1/people/{self.quoted(person)}/memberships/{self.quoted(project)}/{self.quoted(role)}")

    def list_permissions(self):
        "What roles are made of. For whoever is signed in."
        return self.call("GET", "/api/v1/permissions")

    def list_placements(self, *, limit=None, cursor=None, version=None):
        "List what runs where. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/placements", query={"limit": limit, "cursor": cursor, "version": version})

    def place(self, body=None, *, idempotency_key=None):
        "Say that a version runs somewhere, after checking that it does, or that it answers where the gateway does not reach. Needs the permission \"place\" in the project that it is about."
        return self.call("POST", "/api/v1/placements", headers={"Idempotency-Key": idempotency_key}, body=body)

    def unplace(self, ref, environment):
        "Say that a version runs in an environment no more. Needs the permission \"place\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/placements/{self.quoted(environment)}/{self.quoted(ref)}")

    def change_addresses(self, ref, environment, body=None):
        "Add addresses to a placement and take others away, while the version answers. Needs the permission \"place\" in the project that it is about."
        return self.call("PATCH", f"/api/v1/placements/{self.quoted(environment)}/{self.quoted(ref)}", body=body)

    def list_plans(self, *, limit=None, cursor=None):
        "List the plans of rollouts, the newest revision of each. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/plans", query={"limit": limit, "cursor": cursor})

    def put_plan(self, body=None, *, idempotency_key=None):
        "Keep a new revision of a plan. Needs the permission \"route\" in the project that it is about."
        return self.call("POST", "/api/v1/plans", headers={"Idempotency-Key": idempotency_key}, body=body)

    def show_plan(self, plan, *, project=None):
        "Show a plan. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/plans/{self.quoted(plan)}", query={"project": project})

    def list_projects(self, *, limit=None, cursor=None):
        "List the projects that models are in. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/projects", query={"limit": limit, "cursor": cursor})

    def add_project(self, body=None, *, idempotency_key=None):
        "Add a project. Needs the permission \"administer\" for the whole service."
        return self.call("POST", "/api/v1/projects", headers={"Idempotency-Key": idempotency_key}, body=body)

    def remove_project(self, project, *, reason=None):
        "Take away a project in which nothing is. Needs the permission \"administer\" for the whole service."
        return self.call("DELETE", f"/api/v1/projects/{self.quoted(project)}", query={"reason": reason})

    def edit_project(self, project, body=None):
        "Change what is said about a project. Needs the permission \"manage\" in the project that it is about."
        return self.call("PATCH", f"/api/v1/projects/{self.quoted(project)}", body=body)

    def show_ladder(self, project):
        "The rungs that the versions of a project climb and the gates between them, the lowest first; its ETag is the number of its revision. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/projects/{self.quoted(project)}/ladder")

    def set_ladder(self, project, body=None, *, if_match=None):
        "Make the next revision of a project's ladder. Needs the permission \"manage\" in the project that it is about."
        return self.call("PUT", f"/api/v1/projects/{self.quoted(project)}/ladder", headers={"If-Match": if_match}, body=body)

    def preview_ladder(self, project, body=None):
        "What a ladder would let pass today; nothing is changed. Needs the permission \"read\" in the project that it is about."
        return self.call("POST", f"/api/v1/projects/{self.quoted(project)}/ladder/preview", body=body)

    def list_ladder_revisions(self, project, *, limit=None, cursor=None):
        "List the revisions of a project's ladder, newest first. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/projects/{self.quoted(project)}/ladder/revisions", query={"limit": limit, "cursor": cursor})

    def list_promotions(self, *, limit=None, cursor=None, state=None, model=None, project=None, asked_by=None, for_me=None):
        "List promotions, newest first. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/promotions", query={"limit": limit, "cursor": cursor, "state": state, "model": model, "project": project, "asked_by": asked_by, "for_me": for_me})

    def promote(self, body=None, *, idempotency_key=None):
        "Ask that a version step up to a rung. Needs the permission \"ask\" in the project that it is about."
        return self.call("POST", "/api/v1/promotions", headers={"Idempotency-Key": idempotency_key}, body=body)

    def show_promotion(self, promotion):
        "Show a promotion and what its gate says. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/promotions/{self.quoted(promotion)}")

    def carry_out(self, promotion):
        "Carry a promotion out whose gate is met, where that is done by hand. Needs the permission \"ask\" in the project that it is about."
        return self.call("POST", f"/api/v1/promotions/{self.quoted(promotion)}/carry-out")

    def show_review(self, promotion):
        "Everything that someone reads who reviews a promotion. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/promotions/{self.quoted(promotion)}/review")

    def sign(self, promotion, body=None, *, idempotency_key=None):
        "Answer a promotion; never by the one who asked. Needs the permission \"sign\" in the project that it is about."
        return self.call("POST", f"/api/v1/promotions/{self.quoted(promotion)}/sign-offs", headers={"Idempotency-Key": idempotency_key}, body=body)

    def show_statement(self, promotion, body=None):
        "What one would sign by an answer, to sign it with one's own key; nothing is said yet. Needs the permission \"sign\" in the project that it is about."
        return self.call("POST", f"/api/v1/promotions/{self.quoted(promotion)}/statement", body=body)

    def tick(self, promotion, body=None, *, idempotency_key=None):
        "Say that one looked at an item of the checklist. Needs the permission \"sign\" in the project that it is about."
        return self.call("POST", f"/api/v1/promotions/{self.quoted(promotion)}/ticks", headers={"Idempotency-Key": idempotency_key}, body=body)

    def withdraw(self, promotion, body=None):
        "Take a promotion back; only by the one who asked. Needs the permission \"ask\" in the project that it is about."
        return self.call("POST", f"/api/v1/promotions/{self.quoted(promotion)}/withdraw", body=body)

    def list_refusals(self, *, endpoint=None, window=None):
        "Count what the gateway turned away, by reason. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/refusals", query={"endpoint": endpoint, "window": window})

    def foresee(self, body=None):
        "What a registration would make, and what the project's gates would say of it; nothing is changed. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", "/api/v1/registrations/preview", body=body)

    def list_requests(self, *, endpoint=None, window=None, from_=None, to=None, lane=None, version=None, key=None, outcome=None, reason=None, status=None, slower=None, trouble=None, where=None, limit=None, cursor=None, after=None):
        "Search the log of an endpoint's requests, newest first. Needs the permission \"inspect\" in the project that it is about."
        return self.call("GET", "/api/v1/requests", query={"endpoint": endpoint, "window": window, "from": from_, "to": to, "lane": lane, "version": version, "key": key, "outcome": outcome, "reason": reason, "status": status, "slower": slower, "trouble": trouble, "where": where, "limit": limit, "cursor": cursor, "after": after})

    def show_request(self, request):
        "Show a request that is in a log. Needs the permission \"inspect\" in the project that it is about."
        return self.call("GET", f"/api/v1/requests/{self.quoted(request)}")

    def try_again(self, request, body=None):
        "Send a request that is in a log again, and hold the answer against the one then; no lane counts it. Needs the permission \"inspect\" in the project that it is about."
        return self.call("POST", f"/api/v1/requests/{self.quoted(request)}/again", body=body)

    def list_like(self, request):
        "List the requests whose inputs are nearest to those of one, among the newest of its endpoint. Needs the permission \"inspect\" in the project that it is about."
        return self.call("GET", f"/api/v1/requests/{self.quoted(request)}/like")

    def list_requirement_kinds(self):
        "What gates are made of. For whoever is signed in."
        return self.call("GET", "/api/v1/requirement-kinds")

    def list_roles(self, *, limit=None, cursor=None):
        "List the roles with their permissions. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/roles", query={"limit": limit, "cursor": cursor})

    def remove_role(self, role):
        "Remove a role that nobody has. Needs the permission \"administer\" for the whole service."
        return self.call("DELETE", f"/api/v1/roles/{self.quoted(role)}")

    def put_role(self, role, body=None):
        "Make a role, or change one that was made here. Needs the permission \"administer\" for the whole service."
        return self.call("PUT", f"/api/v1/roles/{self.quoted(role)}", body=body)

    def list_rollouts(self, *, limit=None, cursor=None, endpoint=None, candidate=None, open=None):
        "List rollouts, newest first. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/rollouts", query={"limit": limit, "cursor": cursor, "endpoint": endpoint, "candidate": candidate, "open": open})

    def show_rollout(self, rollout):
        "Show a rollout as it looks now, with its decision log. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/rollouts/{self.quoted(rollout)}")

    def change_rollout(self, rollout, body=None):
        "Hold, resume, speed on, finish or end a rollout by hand. Needs the permission \"route\" in the project that it is about."
        return self.call("POST", f"/api/v1/rollouts/{self.quoted(rollout)}", body=body)

    def list_templates(self, *, limit=None, cursor=None):
        "List the command lines that may serve versions here. Needs the permission \"place\" in the project that it is about."
        return self.call("GET", "/api/v1/runner-templates", query={"limit": limit, "cursor": cursor})

    def remove_template(self, name, *, reason=None):
        "Allow a command line no more. Needs the permission \"administer\" for the whole service."
        return self.call("DELETE", f"/api/v1/runner-templates/{self.quoted(name)}", query={"reason": reason})

    def put_template(self, name, body=None):
        "Allow a command line to serve versions here. Needs the permission \"administer\" for the whole service."
        return self.call("PUT", f"/api/v1/runner-templates/{self.quoted(name)}", body=body)

    def list_running(self, *, limit=None, cursor=None, version=None):
        "List the versions that run on the service's machine. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/running", query={"limit": limit, "cursor": cursor, "version": version})

    def running_log(self, ref, environment, replica, *, lines=None):
        "Show the last lines that a replica wrote. Needs the permission \"place\" in the project that it is about."
        return self.call("GET", f"/api/v1/running/{self.quoted(environment)}/{self.quoted(ref)}/{self.quoted(replica)}/log", query={"lines": lines})

    def list_runs(self, *, limit=None, cursor=None, model=None):
        "List runs, newest first. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/runs", query={"limit": limit, "cursor": cursor, "model": model})

    def start_run(self, body=None, *, idempotency_key=None):
        "Open a run. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", "/api/v1/runs", headers={"Idempotency-Key": idempotency_key}, body=body)

    def show_run(self, run):
        "Show a run. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/runs/{self.quoted(run)}")

    def show_curves(self, run):
        "Show the curves of a run, each of about 400 points. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/runs/{self.quoted(run)}/curves")

    def end_run(self, run, body=None):
        "Close a run. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", f"/api/v1/runs/{self.quoted(run)}/end", body=body)

    def log_run(self, run, body=None):
        "Add parameters and points to a run. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", f"/api/v1/runs/{self.quoted(run)}/log", body=body)

    def list_schedules(self, *, limit=None, cursor=None):
        "List what is scored again and again. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/schedules", query={"limit": limit, "cursor": cursor})

    def remove_schedule(self, schedule, *, reason=None):
        "Take a schedule away; a job that it has begun goes on. Needs the permission \"inspect\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/schedules/{self.quoted(schedule)}", query={"reason": reason})

    def show_schedule(self, schedule):
        "Show a schedule, with its last turns. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/schedules/{self.quoted(schedule)}")

    def pause_schedule(self, schedule, body=None):
        "Have a schedule rest, or go on; what was missed meanwhile is not caught up. Needs the permission \"inspect\" in the project that it is about."
        return self.call("PATCH", f"/api/v1/schedules/{self.quoted(schedule)}", body=body)

    def set_schedule(self, schedule, body=None):
        "Have a table scored again and again, in the place of what was set under the same name. Needs the permission \"inspect\" in the project that it is about."
        return self.call("PUT", f"/api/v1/schedules/{self.quoted(schedule)}", body=body)

    def turn_now(self, schedule, body=None, *, idempotency_key=None):
        "Have a turn of a schedule taken at once. Needs the permission \"inspect\" in the project that it is about."
        return self.call("POST", f"/api/v1/schedules/{self.quoted(schedule)}/turns", headers={"Idempotency-Key": idempotency_key}, body=body)

    def sign_out(self):
        "Sign out of the console. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("DELETE", "/api/v1/session")

    def who_am_i(self):
        "Who is signed in, and what they may do. For whoever is signed in."
        return self.call("GET", "/api/v1/session")

    def sign_in(self, body=None):
        "Sign in to the console; sets a cookie. Needs no sign-in."
        return self.call("POST", "/api/v1/session", body=body)

    def sign_in_by_provider(self):
        "Send a browser to the provider of sign-ins (OpenID Connect). Needs no sign-in."
        return self.call("GET", "/api/v1/session/provider")

    def back_from_provider(self, *, code=None, state=None, error=None):
        "Where the provider sends the browser back to. Needs no sign-in."
        return self.call("GET", "/api/v1/session/provider/back", query={"code": code, "state": state, "error": error})

    def ways_in(self):
        "How one can sign in to the console. Needs no sign-in."
        return self.call("GET", "/api/v1/session/ways")

    def rotate_key(self, body=None):
        "Seal all secrets with a new key. Needs the permission \"administer\" for the whole service."
        return self.call("POST", "/api/v1/settings/key/rotation", body=body)

    def show_mail(self):
        "How e-mail is sent. Needs the permission \"administer\" for the whole service."
        return self.call("GET", "/api/v1/settings/mail")

    def set_mail(self, body=None):
        "Say how e-mail is sent. Needs the permission \"administer\" for the whole service."
        return self.call("PUT", "/api/v1/settings/mail", body=body)

    def test_mail(self):
        "Send yourself an e-mail. Needs the permission \"administer\" for the whole service."
        return self.call("POST", "/api/v1/settings/mail/test")

    def show_retention(self):
        "How long what grows is kept. Needs the permission \"administer\" for the whole service."
        return self.call("GET", "/api/v1/settings/retention")

    def set_retention(self, body=None):
        "Say how long what grows is kept. Needs the permission \"administer\" for the whole service."
        return self.call("PUT", "/api/v1/settings/retention", body=body)

    def end_signing_key(self, *, key=None):
        "Say that a key of one's own signs nothing any more. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("DELETE", "/api/v1/signing-keys", query={"key": key})

    def list_signing_keys(self):
        "List the keys with which one signs oneself, and the service signs. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("GET", "/api/v1/signing-keys")

    def add_signing_key(self, body=None, *, idempotency_key=None):
        "Make a key known with which one signs. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("POST", "/api/v1/signing-keys", headers={"Idempotency-Key": idempotency_key}, body=body)

    def list_tokens(self, *, robot=None):
        "List your tokens, or those of a robot that you keep. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("GET", "/api/v1/tokens", query={"robot": robot})

    def make_token(self, body=None, *, idempotency_key=None):
        "Make a token for yourself or for a robot; it is shown once. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("POST", "/api/v1/tokens", headers={"Idempotency-Key": idempotency_key}, body=body)

    def end_token(self, token):
        "Take a token away. For whoever is signed in, about their own things; not with a token that is narrowed down."
        return self.call("DELETE", f"/api/v1/tokens/{self.quoted(token)}")

    def trace(self, *, from_=None, direction=None, depth=None, limit=None, artifacts=None):
        "Follow the lineage from a version, a data set, a run, a commit, or the id of a request. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", "/api/v1/trace", query={"from": from_, "direction": direction, "depth": depth, "limit": limit, "artifacts": artifacts})

    def try_versions(self, body=None):
        "Ask versions the same thing where they are placed, side by side; no lane counts it. Needs the permission \"inspect\" in the project that it is about."
        return self.call("POST", "/api/v1/try", body=body)

    def begin_upload(self, body=None, *, name=None, upload_length=None, upload_complete=None, idempotency_key=None):
        "Begin an upload that may come in pieces, with the first piece as the body if there is one. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", "/api/v1/uploads", query={"name": name}, headers={"Upload-Length": upload_length, "Upload-Complete": upload_complete, "Idempotency-Key": idempotency_key}, body=body)

    def drop_upload(self, upload):
        "Forget an upload. Needs the permission \"register\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/uploads/{self.quoted(upload)}")

    def show_upload(self, upload):
        "How far an upload is; HEAD gives the same as headers. Needs the permission \"register\" in the project that it is about."
        return self.call("GET", f"/api/v1/uploads/{self.quoted(upload)}")

    def append_upload(self, upload, body=None, *, upload_offset=None, upload_complete=None):
        "Add a piece to an upload, as application/partial-upload. Needs the permission \"register\" in the project that it is about."
        return self.call("PATCH", f"/api/v1/uploads/{self.quoted(upload)}", headers={"Upload-Offset": upload_offset, "Upload-Complete": upload_complete}, body=body)

    def look_at_upload(self, upload, *, part=None, target=None):
        "What can be read off an upload before anything is registered. Needs the permission \"register\" in the project that it is about."
        return self.call("GET", f"/api/v1/uploads/{self.quoted(upload)}/look", query={"part": part, "target": target})

    def register(self, body=None):
        "Register a version with its files. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", "/api/v1/versions", body=body)

    def delete_version(self, ref, *, reason=None):
        "Delete a version for good; it must not be in use, and its number stays taken. Needs the permission \"prune\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/versions/{self.quoted(ref)}", query={"reason": reason})

    def show_version(self, ref):
        "Show the version that a ref names. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/versions/{self.quoted(ref)}")

    def edit_version(self, ref, body=None):
        "Change what may change of a version: note, tags, properties. Needs the permission \"register\" in the project that it is about."
        return self.call("PATCH", f"/api/v1/versions/{self.quoted(ref)}", body=body)

    def get_artifact(self, ref, artifact):
        "Get a file of a version. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/versions/{self.quoted(ref)}/artifacts/{self.quoted(artifact)}")

    def attach(self, ref, body=None, *, idempotency_key=None):
        "Attach a document, a notebook or a picture to a version. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", f"/api/v1/versions/{self.quoted(ref)}/attachments", headers={"Idempotency-Key": idempotency_key}, body=body)

    def detach(self, ref, attachment, *, reason=None):
        "Take an attachment off a version. Needs the permission \"register\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/versions/{self.quoted(ref)}/attachments/{self.quoted(attachment)}", query={"reason": reason})

    def get_attachment(self, ref, attachment):
        "Get an attachment of a version. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/versions/{self.quoted(ref)}/attachments/{self.quoted(attachment)}")

    def diff_versions(self, ref, other):
        "How another version differs from this one. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/versions/{self.quoted(ref)}/diff/{self.quoted(other)}")

    def evaluated_on(self, ref, body=None):
        "Note that a version was evaluated on a data set. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", f"/api/v1/versions/{self.quoted(ref)}/evaluations", body=body)

    def list_evidence(self, ref):
        "List the reports of a version, newest first. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/versions/{self.quoted(ref)}/evidence")

    def attach_evidence(self, ref, body=None, *, kind=None, verdict=None, idempotency_key=None):
        "Attach a report to a version, read for what it says; it cannot be changed. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", f"/api/v1/versions/{self.quoted(ref)}/evidence", query={"kind": kind, "verdict": verdict}, headers={"Idempotency-Key": idempotency_key}, body=body)

    def show_gate(self, ref, *, for_=None):
        "What is met and what is missing for a version to step on a rung; nothing is asked for. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/versions/{self.quoted(ref)}/gate", query={"for": for_})

    def confirm_answers(self, ref, body=None):
        "Confirm what a placed version answered to the sample request: from then on it must answer so. Needs the permission \"place\" in the project that it is about."
        return self.call("POST", f"/api/v1/versions/{self.quoted(ref)}/known-answers", body=body)

    def show_profile(self, ref):
        "Show the reference profile of a version. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/versions/{self.quoted(ref)}/profile")

    def compare_profiles(self, ref, other):
        "How the rows behind another version differ from those behind this one. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/versions/{self.quoted(ref)}/profile/against/{self.quoted(other)}")

    def reinstate(self, ref, body=None):
        "Put a retired version on the lowest rung again. Needs the permission \"prune\" in the project that it is about."
        return self.call("POST", f"/api/v1/versions/{self.quoted(ref)}/reinstate", body=body)

    def retire(self, ref, body=None):
        "Take a version off the ladder; it must not be in use. Needs the permission \"prune\" in the project that it is about."
        return self.call("POST", f"/api/v1/versions/{self.quoted(ref)}/retire", body=body)

    def run_standing(self, ref, *, idempotency_key=None):
        "Put a version to the standing evaluation of its model, whether it was before or not. Needs the permission \"register\" in the project that it is about."
        return self.call("POST", f"/api/v1/versions/{self.quoted(ref)}/standing", headers={"Idempotency-Key": idempotency_key})

    def show_vouchers(self, ref):
        "Who vouched for a version, for what, with which key, and whether it still fits the bytes that are stored. Needs the permission \"read\" in the project that it is about."
        return self.call("GET", f"/api/v1/versions/{self.quoted(ref)}/vouchers")

    def list_webhooks(self):
        "List the webhooks of projects that you keep. Needs the permission \"manage\" in the project that it is about."
        return self.call("GET", "/api/v1/webhooks")

    def add_webhook(self, body=None, *, idempotency_key=None):
        "Have an address told of what happens; the secret is shown once. Needs the permission \"manage\" in the project that it is about."
        return self.call("POST", "/api/v1/webhooks", headers={"Idempotency-Key": idempotency_key}, body=body)

    def remove_webhook(self, webhook, *, reason=None):
        "Remove a webhook. Needs the permission \"manage\" in the project that it is about."
        return self.call("DELETE", f"/api/v1/webhooks/{self.quoted(webhook)}", query={"reason": reason})

    def list_deliveries(self, webhook, *, limit=None, cursor=None):
        "What went to a webhook, newest first; webhook 0 is e-mail. Needs the permission \"manage\" in the project that it is about."
        return self.call("GET", f"/api/v1/webhooks/{self.quoted(webhook)}/deliveries", query={"limit": limit, "cursor": cursor})

    def come_in(self, body=None):
        "Use a link: choose a password, and for the first owner a name; sets a cookie. Needs no sign-in."
        return self.call("POST", "/api/v1/welcome", body=body)

    def look_at_link(self, body=None):
        "Whom a link would let in. Needs no sign-in."
        return self.call("POST", "/api/v1/welcome/look", body=body)
